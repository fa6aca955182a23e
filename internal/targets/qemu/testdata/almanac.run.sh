#!/bin/sh
# Public tide tables
# Starts the virtual machine almanac with QEMU and returns when it is off.
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
#                  as in http://10.44.7.2:8000/almanac/
#   STAVREN_WAIT   seconds that stop waits, by default 90
set -eu

fail() {
	echo "almanac: $1" >&2
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
	[ -e almanac.pid ] || return 1
	pid=$(cat almanac.pid)
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
		echo "almanac runs as process $pid"
		exit 0
	fi
	echo "almanac is off"
	exit 3
	;;
stop)
	running || { echo "almanac is off"; exit 0; }
	[ -p control.in ] || fail "has no control file; end process $pid by hand"
	echo system_powerdown >control.in
	left=${STAVREN_WAIT:-90}
	while running; do
		[ "$left" -gt 0 ] || fail "still runs after ${STAVREN_WAIT:-90} seconds; look at its console, or end it with: kill $pid"
		left=$((left - 1))
		sleep 1
	done
	echo "almanac is off"
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
	qemu-img resize -q root.part 21474836480 ||
		fail "the base image is larger than the 20GiB of the root disk; give the disk more"
	mv root.part root.qcow2
fi
if [ ! -e pages.qcow2 ]; then
	qemu-img create -q -f qcow2 pages.part 10737418240
	mv pages.part pages.qcow2
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
	-name almanac \
	-no-user-config -nodefaults \
	-machine "q35,accel=$accelerator" \
	-cpu max \
	-smp 2 \
	-m 2048M \
	-blockdev driver=qcow2,node-name=disk0,discard=unmap,file.driver=file,file.filename=root.qcow2 \
	-device virtio-blk-pci,drive=disk0,serial=root-e539483b,bootindex=0 \
	-blockdev driver=qcow2,node-name=disk1,discard=unmap,file.driver=file,file.filename=pages.qcow2 \
	-device virtio-blk-pci,drive=disk1,serial=pages-2b8777c7 \
	-netdev user,id=net0,net=10.44.7.0/24,host=10.44.7.2,dns=10.44.7.1,dhcpstart=10.44.7.20,hostname=almanac,dnssearch=skerry.example,hostfwd=tcp:127.0.0.1:8080-10.44.7.20:80,hostfwd=tcp:127.0.0.1:25126-10.44.7.20:22 \
	-device virtio-net-pci,netdev=net0,mac=02:2c:3d:19:d3:c7 \
	-display none \
	-device virtio-rng-pci \
	-rtc base=utc \
	-qmp unix:qmp.sock,server=on,wait=off \
	-chardev pipe,id=control,path=control \
	-mon chardev=control,mode=readline \
	-pidfile almanac.pid

if [ -n "${STAVREN_SEED:-}" ]; then
	set -- "$@" -smbios "type=1,serial=ds=nocloud-net;s=$STAVREN_SEED"
else
	set -- "$@" -blockdev driver=raw,node-name=seed,read-only=on,file.driver=file,file.filename=seed.iso \
		-device virtio-blk-pci,drive=seed
fi

# On a terminal the machine's console is shown; Ctrl-A X ends the machine.
console=file:console.log
if [ -t 0 ] && [ -t 1 ]; then
	console=mon:stdio
fi
echo 'almanac: site on 127.0.0.1, port 8080/tcp' >&2
echo 'almanac: ssh on 127.0.0.1, port 25126/tcp' >&2

exec qemu-system-x86_64 "$@" -serial "$console"
