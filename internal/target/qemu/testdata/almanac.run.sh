#!/bin/sh
# Public tide tables
# Starts the virtual machine almanac with QEMU and stays until it is off.
# The first start makes its disks beside this script; later ones keep them.
#
#   STAVREN_ACCEL  accelerator, such as tcg; by default KVM or HVF where this
#                  host has it, else emulation
#   STAVREN_IMAGE  base image of the root disk, in place of the definition's
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
[ -n "$image" ] || image=../images/debian-12-generic-amd64.qcow2

if [ -e almanac.pid ] && kill -0 "$(cat almanac.pid)" 2>/dev/null; then
	fail "is running already, as process $(cat almanac.pid)"
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

# On a terminal the machine's console is shown; Ctrl-A X ends the machine.
console=file:console.log
if [ -t 0 ] && [ -t 1 ]; then
	console=mon:stdio
fi
echo 'almanac: site on 127.0.0.1, port 8080/tcp' >&2
echo 'almanac: ssh on 127.0.0.1, port 25126/tcp' >&2

exec qemu-system-x86_64 \
	-name almanac \
	-no-user-config -nodefaults \
	-machine "q35,accel=$accelerator" \
	-cpu max \
	-smp 2 \
	-m 2048M \
	-blockdev 'driver=qcow2,node-name=disk0,discard=unmap,file.driver=file,file.filename=root.qcow2' \
	-device 'virtio-blk-pci,drive=disk0,serial=root-e539483b,bootindex=0' \
	-blockdev 'driver=qcow2,node-name=disk1,discard=unmap,file.driver=file,file.filename=pages.qcow2' \
	-device 'virtio-blk-pci,drive=disk1,serial=pages-2b8777c7' \
	-blockdev 'driver=raw,node-name=seed,read-only=on,file.driver=file,file.filename=seed.iso' \
	-device 'virtio-blk-pci,drive=seed' \
	-netdev 'user,id=net0,net=10.44.7.0/24,host=10.44.7.2,dns=10.44.7.1,dhcpstart=10.44.7.20,hostname=almanac,dnssearch=skerry.example,hostfwd=tcp:127.0.0.1:8080-10.44.7.20:80,hostfwd=tcp:127.0.0.1:25126-10.44.7.20:22' \
	-device 'virtio-net-pci,netdev=net0,mac=02:2c:3d:19:d3:c7' \
	-device virtio-rng-pci \
	-rtc 'base=utc' \
	-display none \
	-qmp 'unix:qmp.sock,server=on,wait=off' \
	-pidfile almanac.pid \
	-serial "$console"
