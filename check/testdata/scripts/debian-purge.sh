#!/bin/sh
set -eu
apt-get purge -y snapd || true
apt-get autoremove --purge -y
rm -rf /var/cache/apt/archives/*.deb
truncate -s 0 /etc/motd
