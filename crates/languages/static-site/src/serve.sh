#!/bin/sh
# Serves the pages of one folder with nginx; /opt/pages/site.conf says how.
#
# usage: serve FOLDER [--single-page]      the port is read from the environment variable PORT
set -eu

# nginx cannot read the environment, so its configuration is written at the start.
for work in "${TMPDIR:-/tmp}" /dev/shm; do
  if (: >"$work/pages.conf") 2>/dev/null; then break; fi
  work=
done
if [ -z "$work" ]; then
  echo "serve: neither ${TMPDIR:-/tmp} nor /dev/shm can be written to" >&2
  exit 1
fi
fallback=no-page
if [ "${2:-}" = --single-page ]; then fallback=first-page; fi

echo "
daemon off;
pid $work/pages.pid;
error_log stderr warn;
worker_processes 2;
pcre_jit on;
events { worker_connections 1024; }
http {
  client_body_temp_path $work/pages-body;
  proxy_temp_path $work/pages-proxy;
  fastcgi_temp_path $work/pages-fastcgi;
  uwsgi_temp_path $work/pages-uwsgi;
  scgi_temp_path $work/pages-scgi;
  include /opt/pages/site.conf;
  server {
    listen ${PORT:-8080};
    root $1;
    include /opt/pages/answers.conf;
    location / {
      try_files \$uri \$uri.html \$uri/index.html @$fallback;
    }
  }
}" >"$work/pages.conf"
echo "serving $1 on port ${PORT:-8080}"
exec /usr/sbin/nginx -e stderr -c "$work/pages.conf"
