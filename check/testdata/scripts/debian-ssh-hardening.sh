#!/bin/sh
set -eu
printf '%s\n' 'PasswordAuthentication no' 'PermitRootLogin no' >/etc/ssh/sshd_config.d/50-tides.conf
sshd -t
systemctl reload ssh
rm -f /etc/ssh/ssh_host_dsa_key*
[ -f /etc/ssh/ssh_host_ed25519_key ] || ssh-keygen -q -t ed25519 -N '' -f /etc/ssh/ssh_host_ed25519_key
