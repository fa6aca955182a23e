#!/bin/sh
set -eu
id tides >/dev/null 2>&1 || useradd --system --create-home --home-dir /var/lib/tides --shell /usr/sbin/nologin tides
install -d -o tides -g tides -m 0750 /var/lib/tides/data
passwd -l tides
chage -E -1 tides
