#!/bin/sh
# Keeps the readings of all gauges
# Starts the virtual machine store with QEMU and returns when it is off.
# The first start creates its disks beside this script; later ones keep them.
#
#   run.sh          start it
#   run.sh stop     shut it down, and wait
#   run.sh status   report whether it is running; the exit code is 0 if it is, 3 if not
#
#   STAVREN_ACCEL  accelerator, such as tcg; by default KVM or HVF if this
#                  host has it, or else emulation
#   STAVREN_IMAGE  base image of the root disk, instead of the definition's
#   STAVREN_SEED   address that the machine fetches its first-boot data from over
#                  HTTP, instead of the seed image; it sees this host at 10.44.7.2,
#                  as in http://10.44.7.2:8000/store/
#   STAVREN_WAIT   seconds that stop waits, by default 90
set -eu

fail() {
	echo "store: $1" >&2
	exit 1
}

image=${STAVREN_IMAGE:-}
case $image in
'' | /*) ;;
*) image=$PWD/$image ;;
esac
cd -- "$(dirname -- "$0")"

# running sets pid if the machine runs. The pid file alone is no proof: after a
# crash of the host its number may be another process's.
running() {
	[ -e store.pid ] || return 1
	pid=$(cat store.pid)
	kill -0 "$pid" 2>/dev/null || return 1
	command -v ps >/dev/null || return 0
	case $(ps -o args= -p "$pid" 2>/dev/null) in
	*qemu-system-x86_64*) return 0 ;;
	esac
	return 1
}

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
	[ -p control.in ] || fail "has no control file; end process $pid by hand"
	echo system_powerdown >control.in
	left=${STAVREN_WAIT:-90}
	while running; do
		[ "$left" -gt 0 ] || fail "still runs after ${STAVREN_WAIT:-90} seconds; look at its console, or end it with: kill $pid"
		left=$((left - 1))
		sleep 1
	done
	echo "store is off"
	exit 0
	;;
*) fail "knows start, stop and status, not $1" ;;
esac

if running; then
	fail "is running already, as process $pid; run.sh stop ends it"
fi
for program in qemu-system-x86_64 qemu-img; do
	command -v "$program" >/dev/null || fail "needs $program, which is not installed"
done
[ -n "$image" ] || image=../images/debian-12-generic-amd64.qcow2

# A disk is created under another name first, so that a start that is cut short
# never leaves half a disk.
if [ ! -e root.qcow2 ]; then
	[ -r "$image" ] || fail "there is no base image $image; put it there, or name one with STAVREN_IMAGE"
	case $(head -c 4 "$image" | od -An -tx1 | tr -d ' ') in
	514649fb) format=qcow2 ;;
	*) format=raw ;;
	esac
	qemu-img create -q -f qcow2 -F "$format" -b "$image" root.part
	qemu-img resize -q root.part 10737418240 ||
		fail "the base image is larger than the 10GiB of the root disk; give the disk more"
	mv root.part root.qcow2
fi
if [ ! -e readings.qcow2 ]; then
	qemu-img create -q -f qcow2 readings.part 42949672960
	mv readings.part readings.qcow2
fi

accelerator=${STAVREN_ACCEL:-}
if [ -z "$accelerator" ]; then
	accelerator=tcg
	case $(uname -s)/$(uname -m) in
	Linux/x86_64) [ -w /dev/kvm ] && accelerator=kvm:tcg ;;
	Darwin/x86_64) accelerator=hvf:tcg ;;
	esac
fi

rm -f control.in control.out
mkfifo -m 0600 control.in control.out

set -- \
	-name store \
	-no-user-config -nodefaults \
	-object memory-backend-memfd,id=memory,share=on,size=4096M \
	-machine "q35,accel=$accelerator,memory-backend=memory" \
	-cpu max \
	-smp 2 \
	-m 4096M \
	-blockdev driver=qcow2,node-name=disk0,discard=unmap,file.driver=file,file.filename=root.qcow2 \
	-device virtio-blk-pci,drive=disk0,serial=root-b633a82f,bootindex=0 \
	-blockdev driver=qcow2,node-name=disk1,discard=unmap,file.driver=file,file.filename=readings.qcow2 \
	-device virtio-blk-pci,drive=disk1,serial=readings-9a8dac05 \
	-netdev user,id=net0,net=10.44.7.0/24,host=10.44.7.2,dns=10.44.7.1,dhcpstart=10.44.7.21,hostname=store,dnssearch=skerry.example,hostfwd=tcp:127.0.0.1:31450-10.44.7.21:22 \
	-device virtio-net-pci,netdev=net0,mac=02:46:f2:35:eb:75 \
	-netdev socket,id=net1,mcast=239.207.21.142:40921,localaddr=127.0.0.1 \
	-device virtio-net-pci,netdev=net1,mac=02:6c:e5:18:6d:4c \
	-chardev socket,id=share0,path=backup.share \
	-device vhost-user-fs-pci,chardev=share0,tag=backup \
	-display none \
	-device virtio-rng-pci \
	-rtc base=utc \
	-qmp unix:qmp.sock,server=on,wait=off \
	-chardev pipe,id=control,path=control \
	-mon chardev=control,mode=readline \
	-pidfile store.pid

if [ -n "${STAVREN_SEED:-}" ]; then
	set -- "$@" -smbios "type=1,serial=ds=nocloud-net;s=$STAVREN_SEED"
else
	set -- "$@" -blockdev driver=raw,node-name=seed,read-only=on,file.driver=file,file.filename=seed.iso \
		-device virtio-blk-pci,drive=seed
fi

# start_share TAG FOLDER READ-ONLY starts the helper that shows a folder of the
# host inside the machine; it ends with the machine.
start_share() {
	[ -d "$2" ] || fail "there is no folder $2 to share"
	helper=
	for program in /usr/libexec/virtiofsd /usr/lib/virtiofsd /usr/lib/qemu/virtiofsd "$(command -v virtiofsd || :)"; do
		[ -x "$program" ] && helper=$program && break
	done
	[ -n "$helper" ] || fail "needs virtiofsd for its shares, which is not installed"
	# The helper changes folders before it looks for this one.
	set -- "$1" "$(cd -- "$2" && pwd)" "$3"
	rm -f "$1.share"
	knows=$("$helper" --help 2>&1 || :)
	case $3/$knows in
	yes/*--readonly*) "$helper" --socket-path="$1.share" --shared-dir="$2" --readonly >"$1.log" 2>&1 & ;;
	yes/*) fail "this host's virtiofsd cannot keep the machine from writing to $2; install version 1.11 or newer" ;;
	no/*--shared-dir*) "$helper" --socket-path="$1.share" --shared-dir="$2" >"$1.log" 2>&1 & ;;
	*) "$helper" -f --socket-path="$1.share" -o source="$(printf %s "$2" | sed 's/[,\\]/\\&/g')" >"$1.log" 2>&1 & ;;
	esac
	tries=0
	while [ ! -S "$1.share" ]; do
		tries=$((tries + 1))
		[ "$tries" -le 10 ] || fail "virtiofsd did not start for the share $1: $(tail -n 1 "$1.log")"
		sleep 1
	done
}
start_share backup ../backup no

# On a terminal the machine's console is shown; Ctrl-A X ends the machine.
console=file:console.log
if [ -t 0 ] && [ -t 1 ]; then
	console=mon:stdio
fi
echo 'store: ssh on 127.0.0.1, port 31450/tcp' >&2

exec qemu-system-x86_64 "$@" -serial "$console"
