"use strict";

const http = require("node:http");
const { splice } = require("knots");

/** A router: `route(path, handler)` adds a page, `listen(port)` serves them. */
module.exports = function berth() {
  const pages = new Map();
  const key = (path) => "/" + splice(path).join("/");

  const server = http.createServer((request, response) => {
    const { pathname } = new URL(request.url, "http://harbour.test");
    const handler = pages.get(key(pathname));
    const [status, type, body] = handler ? handler(request) : [404, "text/plain", "not found\n"];
    response.writeHead(status, { "content-type": type, "content-length": Buffer.byteLength(body) });
    response.end(request.method === "HEAD" ? undefined : body);
  });

  return {
    route(path, handler) {
      pages.set(key(path), handler);
      return this;
    },
    listen(port, ready) {
      server.listen(port, ready);
      process.on("SIGTERM", () => {
        server.close(() => process.exit(0));
        server.closeAllConnections?.();
      });
      return server;
    },
  };
};
