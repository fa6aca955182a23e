#!/bin/bash
set -euo pipefail
dnf -y install nginx policycoreutils-python-utils
semanage port -a -t http_port_t -p tcp 8080 || semanage port -m -t http_port_t -p tcp 8080
firewall-cmd --permanent --add-service=http
firewall-cmd --reload
systemctl enable --now nginx
