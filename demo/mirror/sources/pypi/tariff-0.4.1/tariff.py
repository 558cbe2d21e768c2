"""Fares of Kestrel Sound in cents: a base fare and so much a zone, children at half."""

BASE = 180
ZONE = 95


def fare(zones, child=False):
    full = BASE + ZONE * zones
    return full // 2 if child else full
