"""Log lines: who, then what."""


def line(who, what):
    return f"[{who}] {what}"
