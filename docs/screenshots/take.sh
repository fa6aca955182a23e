#!/usr/bin/env bash
# Takes the pictures of this folder anew from the demo data: docs/screenshots/take.sh
# Needs Xvfb, xterm, ImageMagick's import, x11-utils and the DejaVu fonts.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"; kill "$xvfb" 2>/dev/null || true' EXIT

(cd "$here/../.." && go build -o "$work/bin/stavren" ./cmd/stavren)
# Colour also where a command is cut to what fits the window.
export PATH=$work/bin:$PATH CLICOLOR_FORCE=1
cd "$work" && stavren demo tides >/dev/null && rm -rf tides/out && cd tides

# The demo's secrets, made up like the rest.
export TIDE_DATABASE_PASSWORD=tide TIDE_JONAS_PASSWORD=tide TIDE_SCREEN_PASSWORD=tide

Xvfb :77 -screen 0 1280x800x24 >/dev/null 2>&1 &
xvfb=$!
export DISPLAY=:77
until xdpyinfo >/dev/null 2>&1; do sleep 0.2; done

# shoot NAME COMMAND: runs the command in a terminal and takes its picture.
shoot() {
	local name=$1 command=$2
	cat >"$work/session" <<END
printf '\033[1m\$ %s\033[0m\n' '$command'
$command
touch "$work/shown"
sleep 60
END
	rm -f "$work/shown"
	xterm -fa 'DejaVu Sans Mono' -fs "${3:-10}" -geometry 300x100+0+0 -bg '#14171c' -fg '#d8dee9' -xrm 'XTerm*faintIsRelative: true' \
		-b 12 +sb -e bash "$work/session" &
	local terminal=$!
	until [ -e "$work/shown" ]; do sleep 0.1; done
	sleep 0.7
	import -window root "$here/$name.png"
	kill "$terminal"
	wait "$terminal" 2>/dev/null || true
}

shoot demo 'stavren demo 2>&1 | tail -n 45'
shoot check-form 'stavren check rougher-seas.stavren.yaml 2>&1 | head -n 48'
shoot check 'stavren check rough-seas.stavren.yaml 2>&1 | tail -n 44'
shoot lines 'stavren check --format lines rough-seas.stavren.yaml | cut -c1-158 | head -n 46'
shoot show 'stavren show --origins --variant rehearsal tide-office.stavren.yaml almanac | head -n 46'
shoot render 'stavren render qemu tide-office.stavren.yaml --machine almanac -o out'
shoot render-cloud 'stavren render cloudformation tide-office.stavren.yaml -o cloud --prices prices.csv'
shoot fit 'stavren fit tide-office.stavren.yaml --prices prices.csv --variant none,rehearsal | head -n 46' 11
shoot targets 'stavren targets | head -n 60' 8
shoot filled 'stavren show --filled tide-office.stavren.yaml'
shoot reach 'stavren reach tide-office.stavren.yaml' 11
