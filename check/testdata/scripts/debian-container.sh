#!/bin/bash
set -euo pipefail
install -m 0755 -d /etc/apt/keyrings
curl -fsSL https://packages.skerry.example/key.asc -o /etc/apt/keyrings/skerry.asc
. /etc/os-release
echo "deb [signed-by=/etc/apt/keyrings/skerry.asc] https://packages.skerry.example/debian ${VERSION_CODENAME} stable" >/etc/apt/sources.list.d/skerry.list
apt-get update
apt-get install -y tide-engine
usermod -aG tide-engine mira
