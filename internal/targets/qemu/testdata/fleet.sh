#!/bin/sh
# Runs the machines of the fleet tide-office with QEMU: all of them, or those that are named.
#
#   fleet.sh start [MACHINE]...    start them in the background, in order
#   fleet.sh stop [MACHINE]...     shut them down, the last one first
#   fleet.sh status [MACHINE]...   report which are running; the exit code is 0 if all are
#   fleet.sh remove [MACHINE]...   remove them and their disks, except those to be kept;
#                                  --yes doesn't ask
set -eu
umask 077

fail() {
	echo "fleet.sh: $1" >&2
	exit 1
}

# Everything is in this script's folder, also if the script is called by a link.
self=$0
while [ -L "$self" ]; do
	link=$(readlink "$self")
	case $link in
	/*) self=$link ;;
	*) self=$(dirname -- "$self")/$link ;;
	esac
done
cd -- "$(dirname -- "$self")"

verb=${1:-}
case $verb in
start | stop | status | remove) shift ;;
*) fail "knows start, stop, status and remove, not '$verb'" ;;
esac
sure=''
machines=''
for word; do
	case $word in
	--yes) sure=--yes ;;
	almanac) machines="$machines almanac" ;;
	store) machines="$machines store" ;;
	gauge-1) machines="$machines gauge-1" ;;
	gauge-2) machines="$machines gauge-2" ;;
	gauge-3) machines="$machines gauge-3" ;;
	chartroom) machines="$machines chartroom" ;;
	harbour-log) machines="$machines harbour-log" ;;
	ferry-desk) machines="$machines ferry-desk" ;;
	*) fail "there is no machine $word" ;;
	esac
done
[ -n "$machines" ] || machines=" almanac store gauge-1 gauge-2 gauge-3 chartroom harbour-log ferry-desk"
case $verb in
stop | remove)
	backwards=''
	for machine in $machines; do
		backwards="$machine $backwards"
	done
	machines=$backwards
	;;
esac

# start MACHINE starts it in the background and waits until it runs.
start() {
	if "$1/run.sh" status >/dev/null; then
		"$1/run.sh" status
		return
	fi
	apart=''
	command -v setsid >/dev/null && apart=setsid
	${apart:+"$apart"} "$1/run.sh" start >"$1/run.log" 2>&1 </dev/null &
	started=$!
	until "$1/run.sh" status | grep -q runs; do
		if ! kill -0 "$started" 2>/dev/null; then
			cat "$1/run.log" >&2
			return 1
		fi
		sleep 1
	done
	"$1/run.sh" status
	grep '^[a-z0-9-]*: ' "$1/run.log" || :
}

failed=''
for machine in $machines; do
	[ -e "$machine/run.sh" ] || continue # it wasn't rendered here
	case $verb in
	start) start "$machine" || failed="$failed $machine" ;;
	remove) "$machine/run.sh" remove ${sure:+"$sure"} || failed="$failed $machine" ;;
	*) "$machine/run.sh" "$verb" || failed="$failed $machine" ;;
	esac
done
case $verb/$failed in
*/) ;;
status/*) exit 3 ;;
*) fail "could not $verb:$failed" ;;
esac
