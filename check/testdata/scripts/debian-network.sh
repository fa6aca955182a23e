#!/bin/sh
set -eu
ip -4 -br addr show scope global | awk '{print $1, $3}' >/run/addresses
getent hosts store.skerry.example >/dev/null || echo '10.44.7.21 store.skerry.example store' >>/etc/hosts
ping -c 1 -W 2 10.44.7.1 >/dev/null || echo "the gateway does not answer" >&2
