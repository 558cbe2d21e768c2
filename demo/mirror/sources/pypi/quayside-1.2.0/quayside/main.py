"""The command: quayside MODULE:APPLICATION; the port is read from the variable PORT."""
import importlib
import os
import signal
import sys
from socketserver import ThreadingMixIn
from wsgiref.simple_server import WSGIRequestHandler, WSGIServer, make_server

from fogline import line


class Server(ThreadingMixIn, WSGIServer):
    daemon_threads = True


class Handler(WSGIRequestHandler):
    def log_message(self, form, *values):
        print(line("quayside", form % values), flush=True)


def main():
    module, _, name = sys.argv[1].partition(":")
    sys.path.insert(0, os.getcwd())
    application = getattr(importlib.import_module(module), name or "application")
    port = int(os.environ.get("PORT", "8080"))
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    server = make_server("", port, application, server_class=Server, handler_class=Handler)
    print(line("quayside", f"serves {module} on port {port}"), flush=True)
    server.serve_forever()
    return 0
