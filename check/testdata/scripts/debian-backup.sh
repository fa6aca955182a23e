#!/bin/sh
set -eu
stamp=$(date +%Y-%m-%d)
tar -C /srv -czf "/srv/backup/readings-$stamp.tar.gz" readings
find /srv/backup -name 'readings-*.tar.gz' -mtime +30 -exec rm -f {} +
ls -1t /srv/backup | head -n 3
