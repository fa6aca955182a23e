#!/bin/sh
# Keeps the readings of all gauges
# Starts the virtual machine store with bhyve, as root, and stays until it is
# off. The first start creates its disks beside this script; later ones keep them.
#
#   run.sh          start it
#   run.sh stop     shut it down, and wait
#   run.sh status   report whether it is running; the exit code is 0 if it is, 3 if not
#   run.sh remove   remove its disks, except those to be kept, and all else that it left
#                   here; --yes doesn't ask
#
#   STAVREN_IMAGE  base image of the root disk, instead of the definition's
set -eu
umask 077

fail() {
	echo "store: $1" >&2
	exit 1
}

image=${STAVREN_IMAGE:-}
case $image in
'' | /*) ;;
*) image=$PWD/$image ;;
esac
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

running() { [ -e /dev/vmm/store ] && pid=$(pgrep -f '^bhyve: store( |$)'); }

# confirm asks before something is lost, unless the answer was given with --yes.
confirm() {
	[ "$sure" = no ] || return 0
	[ -t 0 ] || fail "asks before it removes anything; answer with --yes"
	printf 'Remove this? [y/N] '
	read -r answer
	case $answer in
	y | Y | yes) ;;
	*) fail "keeps everything" ;;
	esac
}

sure=no
[ "${2:-}" != --yes ] || sure=yes
case ${1:-start} in
start) ;;
status)
	if running; then
		echo "store runs as process $pid"
		exit 0
	fi
	echo "store is off"
	exit 3
	;;
stop)
	running || { echo "store is off"; exit 0; }
	# bhyve presses the power button when it is asked to terminate.
	kill -TERM "$pid"
	left=${STAVREN_WAIT:-90}
	while running; do
		[ "$left" -gt 0 ] || fail "still runs after ${STAVREN_WAIT:-90} seconds; look at its console, or end it with: bhyvectl --destroy --vm=store"
		left=$((left - 1))
		sleep 1
	done
	echo "store is off"
	exit 0
	;;
remove)
	running && fail "runs as process $pid; run.sh stop ends it"
	set -- root.img variables.fd
	for file; do
		[ ! -e "$file" ] || echo "$PWD/$file"
	done
	[ ! -e readings.img ] || echo "kept: $PWD/readings.img"
	confirm
	rm -f "$@" ./*.part ./*.log run.lock
	# Bridges of the fleet go with their last machine.
	drop() {
		ifconfig "$1" >/dev/null 2>&1 || return 0
		ifconfig "$1" | grep -q 'member: ' || ifconfig "$1" destroy
	}
	drop quay-01168a
	drop archive-62118c
	echo "store is removed"
	exit 0
	;;
*) fail "knows start, stop, status and remove, not $1" ;;
esac

if running; then
	fail "runs as process $pid already; run.sh stop ends it"
fi
[ "$(id -u)" = 0 ] || fail "has to be started by root, who may make interfaces"
for program in bhyve bhyvectl qemu-img; do
	command -v "$program" >/dev/null || fail "needs $program, which is not installed"
done
[ -r /usr/local/share/uefi-firmware/BHYVE_UEFI_CODE.fd ] || fail "needs UEFI firmware; install the package edk2-bhyve"
# The script runs once more under a lock (lockf(1)), which holds until the machine is off.
if [ -z "${STAVREN_LOCKED:-}" ]; then
	code=0
	STAVREN_LOCKED=yes STAVREN_IMAGE=$image lockf -k -s -t 0 run.lock sh "./$(basename -- "$self")" start || code=$?
	[ "$code" != 75 ] || fail "is being started already"
	exit "$code"
fi
[ -n "$image" ] || image=../images/debian-12-generic-amd64.qcow2
kldload -n vmm if_tuntap if_bridge nmdm

# The packet filter asks the machine's own rules through anchors of /etc/pf.conf.
anchored() {
	pfctl -s nat 2>/dev/null | grep -qF 'rdr-anchor "stavren/*"' &&
		pfctl -s nat 2>/dev/null | grep -qF 'nat-anchor "stavren/*"' &&
		pfctl -s rules 2>/dev/null | grep -qF 'anchor "stavren/*"'
}
anchored || fail 'needs the packet filter with these lines in /etc/pf.conf, the first two before rules that block or pass:
  nat-anchor "stavren/*"
  rdr-anchor "stavren/*"
  anchor "stavren/*"
Then, as root: sysrc pf_enable=YES && service pf restart'
out=$(route -n get default 2>/dev/null | awk '/interface:/ {print $2}')
[ -n "$out" ] || fail "finds no route to the world; has the host a default route?"
dns=$(awk '$1 == "nameserver" && $2 !~ /^127[.]|^::1$|:/ {print $2; exit}' /etc/resolv.conf)
if [ -z "$dns" ]; then
	dns=127.0.0.1
	echo "store: /etc/resolv.conf names no name server that the machine could ask; write dns: for its network" >&2
fi

# format_of IMAGE prints the format of a disk image, by how it begins.
format_of() {
	case $(head -c 8 "$1" | od -An -tx1 | tr -d ' ') in
	514649fb*) echo qcow2 ;;
	7668647866696c65) echo vhdx ;;
	636f6e6563746978) echo vpc ;;
	4b444d56*) echo vmdk ;;
	*)
		case $(od -An -j 64 -N 4 -tx1 "$1" | tr -d ' ') in
		7f10dabe) echo vdi ;;
		*) echo raw ;;
		esac
		;;
	esac
}

# make_disk NAME SIZE FULL [IMAGE]. A disk is created under another name first, so
# that a start that is cut short never leaves half a disk.
make_disk() {
	if [ -e "$1.img" ]; then
		have=$(stat -f %z "$1.img")
		if [ "$have" -lt "$2" ]; then
			echo "store: $1.img has $have bytes, less than the $2 of the definition; to enlarge it: truncate -s $2 $PWD/$1.img" >&2
		elif [ "$have" -gt "$2" ]; then
			echo "store: $1.img has $have bytes, more than the $2 of the definition; a disk can't be made smaller" >&2
		fi
		return
	fi
	if [ -n "${4:-}" ]; then
		[ -r "$4" ] || fail "there is no image $4 for the disk $1"
		qemu-img convert -q -f "$(format_of "$4")" -O raw "$4" "$1.part"
		[ "$(stat -f %z "$1.part")" -le "$2" ] || fail "the image $4 is larger than the disk $1; give the disk more"
	else
		: >"$1.part"
	fi
	if [ "$3" = yes ]; then
		have=$(stat -f %z "$1.part")
		dd if=/dev/zero bs=1048576 count=$((($2 - have) / 1048576)) >>"$1.part" 2>/dev/null
	fi
	truncate -s "$2" "$1.part"
	mv "$1.part" "$1.img"
}
make_disk root 10737418240 no "$image"
make_disk readings 42949672960 no
[ -e variables.fd ] || cp /usr/local/share/uefi-firmware/BHYVE_UEFI_VARS.fd variables.fd

# join TAP BRIDGE OWN [FAMILY ADDRESS]: one interface on one bridge, of our own or the host's.
join() {
	if ! ifconfig "$2" >/dev/null 2>&1; then
		[ "$3" = yes ] || fail "there is no bridge $2; to make it: ifconfig bridge create name $2 && ifconfig $2 addm INTERFACE up"
		ifconfig bridge create name "$2" >/dev/null
	fi
	if [ -n "${4:-}" ]; then
		ifconfig "$2" "$4" "$5" up
	elif [ "$3" = yes ]; then
		ifconfig "$2" up
	fi
	ifconfig "$1" >/dev/null 2>&1 || ifconfig tap create name "$1" >/dev/null
	ifconfig "$2" addm "$1" 2>/dev/null || :
	ifconfig "$1" up
}
join tap35eb750 quay-01168a yes inet 10.44.7.1/24
join tap186d4c1 archive-62118c yes inet 10.44.8.1/24
sysctl -q net.inet.ip.forwarding=1 net.inet6.ip6.forwarding=1
# Packets from one machine to another pass the filter too (if_bridge(4)).
sysctl -q net.link.bridge.pfil_member=1 net.link.bridge.pfil_onlyip=0
pfctl -q -D out="$out" -D dns="$dns" -a stavren/store -f ports.pf.conf

forget() { bhyvectl --destroy --vm=store 2>/dev/null || :; }
clean() {
	forget
	pfctl -q -a stavren/store -F all 2>/dev/null || :
	ifconfig tap35eb750 destroy 2>/dev/null || :
	ifconfig tap186d4c1 destroy 2>/dev/null || :
}
trap clean EXIT
forget
echo 'store: ssh -p 22 mira@10.44.7.21' >&2
echo 'store: ssh mira@10.44.8.21' >&2

# Without a terminal, or for a machine that has no console, the serial port is one end of
# a line (nmdm(4)).
console=''
[ ! -t 0 ] || console='-o lpc.com1.path=stdio'
[ -n "$console" ] || echo "store: serial console by: cu -l /dev/nmdm-store-B" >&2

# bhyve ends with 0 when the machine restarts, and with more when it is off.
# shellcheck disable=SC2086 # nothing, or two words
while bhyve -k bhyve.conf $console store; do
	forget
done
