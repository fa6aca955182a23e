#!/bin/sh
# Keeps the readings of all gauges
# Starts the virtual machine store with QEMU and stays until it is off.
# The first start makes its disks beside this script; later ones keep them.
#
#   STAVREN_ACCEL  accelerator, such as tcg; by default KVM or HVF where this
#                  host has it, else emulation
#   STAVREN_IMAGE  base image of the root disk, in place of the definition's
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
[ -n "$image" ] || image=../images/debian-12-generic-amd64.qcow2

if [ -e store.pid ] && kill -0 "$(cat store.pid)" 2>/dev/null; then
	fail "is running already, as process $(cat store.pid)"
fi
for program in qemu-system-x86_64 qemu-img; do
	command -v "$program" >/dev/null || fail "needs $program, which is not installed"
done

# A disk is made under another name first, so that a start that was cut short
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

# On a terminal the machine's console is shown; Ctrl-A X ends the machine.
console=file:console.log
if [ -t 0 ] && [ -t 1 ]; then
	console=mon:stdio
fi
echo 'store: ssh on 127.0.0.1, port 31450/tcp' >&2

exec qemu-system-x86_64 \
	-name store \
	-no-user-config -nodefaults \
	-machine "q35,accel=$accelerator" \
	-cpu max \
	-smp 2 \
	-m 4096M \
	-blockdev 'driver=qcow2,node-name=disk0,discard=unmap,file.driver=file,file.filename=root.qcow2' \
	-device 'virtio-blk-pci,drive=disk0,serial=root-b633a82f,bootindex=0' \
	-blockdev 'driver=qcow2,node-name=disk1,discard=unmap,file.driver=file,file.filename=readings.qcow2' \
	-device 'virtio-blk-pci,drive=disk1,serial=readings-9a8dac05' \
	-blockdev 'driver=raw,node-name=seed,read-only=on,file.driver=file,file.filename=seed.iso' \
	-device 'virtio-blk-pci,drive=seed' \
	-netdev 'user,id=net0,net=10.44.7.0/24,host=10.44.7.2,dns=10.44.7.1,dhcpstart=10.44.7.21,hostname=store,dnssearch=skerry.example,hostfwd=tcp:127.0.0.1:31450-10.44.7.21:22' \
	-device 'virtio-net-pci,netdev=net0,mac=02:46:f2:35:eb:75' \
	-device virtio-rng-pci \
	-rtc 'base=utc' \
	-display none \
	-qmp 'unix:qmp.sock,server=on,wait=off' \
	-pidfile store.pid \
	-serial "$console"
