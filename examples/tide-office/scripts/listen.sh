#!/bin/sh
# Passes what the buoys send on to the store.
set -eu
mkdir -p /var/lib/tide
pkill -f 'socat.*4001' || true
nohup socat -u UDP-RECV:4001 'TCP:{{ machine "store" "address" }}:4001' >/var/lib/tide/listen.log 2>&1 &
