#!/bin/sh
set -eu
if command -v apt-get >/dev/null 2>&1; then
    apt-get install -y socat
elif command -v dnf >/dev/null 2>&1; then
    dnf install -y socat
elif command -v apk >/dev/null 2>&1; then
    apk add socat
fi
