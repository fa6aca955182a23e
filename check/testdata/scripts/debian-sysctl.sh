#!/bin/sh
set -eu
cat >/etc/sysctl.d/60-tides.conf <<'END'
net.ipv4.ip_forward = 1
vm.swappiness = 10
END
sysctl --system >/dev/null
modprobe br_netfilter || true
