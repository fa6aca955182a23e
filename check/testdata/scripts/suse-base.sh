#!/bin/bash
set -euo pipefail
zypper --non-interactive refresh
zypper -n install --no-recommends chrony
systemctl enable --now chronyd
