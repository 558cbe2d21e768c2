"""What a crossing costs, as a WSGI application (PEP 3333)."""
import json
import os
from urllib.parse import parse_qs

from tariff import fare

ZONES = {"Skerry Point": 1, "Mill Island": 2, "Outer Light": 4}


def fares(child=False):
    return {to: fare(zones, child) for to, zones in ZONES.items()}


def application(environ, start_response):
    path = environ.get("PATH_INFO", "/")
    query = parse_qs(environ.get("QUERY_STRING", ""))
    if path == "/healthz":
        start_response("200 OK", [("Content-Type", "text/plain")])
        return [b"well\n"]
    if path != "/":
        start_response("404 Not Found", [("Content-Type", "text/plain")])
        return [b"not found\n"]
    answer = {"currency": os.environ.get("CURRENCY", "crowns"), "fares": fares("child" in query)}
    start_response("200 OK", [("Content-Type", "application/json")])
    return [json.dumps(answer).encode() + b"\n"]
