#!/bin/bash
set -euo pipefail
apt-get -y install postgresql
sudo_like() { su - postgres -c "$1"; }
sudo_like "psql -tc \"SELECT 1 FROM pg_roles WHERE rolname='tides'\"" | grep -q 1 || sudo_like "createuser tides"
sed -i "s/^#listen_addresses.*/listen_addresses = '*'/" /etc/postgresql/15/main/postgresql.conf
systemctl restart postgresql
for i in $(seq 1 30); do
  pg_isready -q && break
  sleep 1
done
