#!/bin/sh
set -eu
case "$(uname -m)" in
x86_64) arch=amd64 ;;
aarch64 | arm64) arch=arm64 ;;
*) echo "unknown processor" >&2; exit 1 ;;
esac
wget -q -O /usr/local/bin/tidectl "https://downloads.skerry.example/tidectl-$arch"
chmod +x /usr/local/bin/tidectl
