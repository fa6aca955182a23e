#!/bin/bash
set -euo pipefail
dnf upgrade -y --refresh
dnf config-manager --set-enabled crb || true
needs-restarting -r || touch /run/restart-wanted
