#!/bin/sh
set -eu
export ASSUME_ALWAYS_YES=yes
pkg bootstrap
pkg install -y sqlite3 bash
sysrc nginx_enable=YES
pw useradd tides -m -s /bin/sh || true
