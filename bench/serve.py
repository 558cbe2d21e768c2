"""Serves a folder on a free loopback port with kept connections: serve.py FOLDER PORT-FILE"""
import os
import sys
from functools import partial
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer


class Quiet(SimpleHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def log_message(self, *_):
        pass


folder, port_file = sys.argv[1:]
os.makedirs(folder, exist_ok=True)
server = ThreadingHTTPServer(("127.0.0.1", 0), partial(Quiet, directory=folder))
server.socket.listen(128)
with open(port_file, "w") as file:
    file.write(str(server.server_address[1]))
server.serve_forever()
