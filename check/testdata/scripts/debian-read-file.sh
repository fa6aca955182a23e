#!/bin/sh
set -eu
while IFS=: read -r name port; do
    [ -n "$name" ] || continue
    printf 'buoy %s listens on %s\n' "$name" "$port"
done </etc/tide/buoys
read -r first _ </etc/tide/buoys || first=none
echo "first: $first" | tee /run/first-buoy
