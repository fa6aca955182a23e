#!/bin/sh
set -eu
export DEBIAN_FRONTEND=noninteractive
apt-get update -q
apt-get install -y --no-install-recommends nginx curl ca-certificates
cat >/etc/nginx/sites-available/tides <<'CONF'
server {
    listen 80 default_server;
    root /srv/tides;
    location / { try_files $uri $uri/ =404; }
}
CONF
ln -sf /etc/nginx/sites-available/tides /etc/nginx/sites-enabled/default
nginx -t
systemctl reload nginx
