#!/usr/bin/env python3
"""Serves the pages of one folder over HTTP. Only Python's standard library is used.

usage: serve FOLDER [--single-page]      the port is read from the environment variable PORT

Files are compared by content, never by time: every file of an image has the same time. Header fields of every answer
are read from the file "headers" beside this one.
"""
import hashlib
import mimetypes
import os
import re
import signal
import sys
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import unquote, urlsplit

mimetypes.init(files=[])
for ending, kind in ((".js", "text/javascript"), (".mjs", "text/javascript"), (".webp", "image/webp"),
                     (".woff2", "font/woff2"), (".wasm", "application/wasm"), (".svg", "image/svg+xml")):
    mimetypes.add_type(kind, ending)

# A name that has the hash of its content, as bundlers write them.
HASHED = re.compile(r"[.-](?=[A-Za-z0-9_-]*[0-9])[A-Za-z0-9_-]{8,}\.[a-z0-9]+$")


class Pages(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server_version = "pages"
    sys_version = ""
    root = "."
    single_page = False
    headers_of_all = []

    def do_GET(self):
        self.answer(with_body=True)

    def do_HEAD(self):
        self.answer(with_body=False)

    def find(self):
        """The file that the path means; None if there is none, a text to redirect to a folder."""
        path = unquote(urlsplit(self.path).path)
        names = [name for name in path.split("/") if name not in ("", ".")]
        if "\0" in path or any(name == ".." or name.startswith(".") for name in names):
            return None, None
        full = os.path.join(self.root, *names)
        if not os.path.realpath(full).startswith(os.path.realpath(self.root)):
            return None, None
        if os.path.isdir(full):
            if not path.endswith("/"):
                return None, "/" + "/".join(names) + "/"
            full = os.path.join(full, "index.html")
        return (full if os.path.isfile(full) else None), None

    def answer(self, with_body):
        full, redirect = self.find()
        if redirect:
            self.send_response(301)
            self.send_header("Location", redirect)
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        status = 200
        if full is None and self.single_page and not os.path.splitext(urlsplit(self.path).path)[1]:
            full = os.path.join(self.root, "index.html")
        elif full is None:
            status, full = 404, os.path.join(self.root, "404.html")
        body = b"not found\n"
        if os.path.isfile(full):
            with open(full, "rb") as file:
                body = file.read()
        tag = '"' + hashlib.sha256(body).hexdigest()[:32] + '"'
        if status == 200 and tag in self.headers.get("If-None-Match", ""):
            self.send_response(304)
            self.send_header("ETag", tag)
            self.end_headers()
            return
        kind = mimetypes.guess_type(full)[0] or "application/octet-stream"
        self.send_response(status)
        self.send_header("Content-Type", kind + "; charset=utf-8" if kind.startswith("text/") else kind)
        self.send_header("Content-Length", str(len(body)))
        lasting = status == 200 and HASHED.search(os.path.basename(full))
        self.send_header("Cache-Control", "public, max-age=31536000, immutable" if lasting else "no-cache")
        for name, value in self.headers_of_all:
            self.send_header(name, value)
        self.send_header("ETag", tag)
        self.end_headers()
        if with_body:
            self.wfile.write(body)

    def log_message(self, form, *values):
        print(form % values, flush=True)


def main():
    Pages.root = sys.argv[1]
    with open(os.path.join(os.path.dirname(os.path.abspath(__file__)), "headers"), encoding="utf-8") as lines:
        Pages.headers_of_all = [tuple(line.rstrip("\n").split(": ", 1)) for line in lines]
    Pages.single_page = "--single-page" in sys.argv[2:]
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    port = int(os.environ.get("PORT", "8080"))
    print(f"serving {Pages.root} on port {port}", flush=True)
    ThreadingHTTPServer(("", port), Pages).serve_forever()


main()
