#!/bin/sh
set -eu
apt-get install --yes python3-venv
python3 -m venv /opt/tides
/opt/tides/bin/pip install --quiet 'tides==1.4'
cat >/etc/systemd/system/tides.service <<UNIT
[Unit]
Description=Tide tables
[Service]
ExecStart=/opt/tides/bin/tides --port 8000
Restart=on-failure
[Install]
WantedBy=multi-user.target
UNIT
systemctl daemon-reload
systemctl enable --now tides
