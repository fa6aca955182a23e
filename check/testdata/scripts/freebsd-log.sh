#!/bin/sh
set -eu
env ASSUME_ALWAYS_YES=yes pkg upgrade
install -d -m 0755 /var/db/harbour
sqlite3 /var/db/harbour/log.db 'create table if not exists log (at text, note text);'
service cron restart
