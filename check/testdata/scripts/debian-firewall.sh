#!/bin/sh
set -eu
apt-get install -qq -y nftables
cat >/etc/nftables.conf <<'END'
#!/usr/sbin/nft -f
flush ruleset
table inet filter {
    chain input { type filter hook input priority 0; policy drop; ct state established,related accept; iif lo accept; tcp dport { 22, 80 } accept; }
}
END
systemctl enable --now nftables
