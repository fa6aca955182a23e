#!/bin/bash
set -euo pipefail
command -v git >/dev/null || apt-get install -y git
repo=/opt/almanac
if [[ -d $repo/.git ]]; then
  git -C "$repo" pull --ff-only
else
  git clone --depth 1 https://git.skerry.example/almanac.git "$repo"
fi
make -C "$repo" install PREFIX=/usr/local
