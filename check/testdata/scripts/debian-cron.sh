#!/bin/sh
set -eu
cat >/etc/cron.d/tides <<'END'
15 3 * * * root /usr/local/bin/tide-report >/var/log/tide-report.log 2>&1
END
chmod 0644 /etc/cron.d/tides
crontab -l 2>/dev/null | { cat; echo '@daily /usr/local/bin/tide-clean'; } | crontab -
