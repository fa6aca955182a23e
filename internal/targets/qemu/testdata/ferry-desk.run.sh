#!/bin/sh
# Tickets and timetables at the ferry pier
# Starts the virtual machine ferry-desk with QEMU and returns when it is off.
# The first start creates its disks beside this script; later ones keep them.
#
#   run.sh          start it
#   run.sh stop     shut it down, and wait
#   run.sh status   report whether it is running; the exit code is 0 if it is, 3 if not
#   run.sh remove   remove its disks, except those to be kept, and all else that it left
#                   here; --yes doesn't ask
#
#   STAVREN_ACCEL  accelerator, such as tcg; by default KVM or HVF if this
#                  host has it, or else emulation
#   STAVREN_IMAGE  base image of the root disk, instead of the definition's
#   STAVREN_SEED   address that the machine fetches its first-boot data from over
#                  HTTP, instead of the seed image; it sees this host at 10.44.7.2,
#                  as in http://10.44.7.2:8000/ferry-desk/
#   STAVREN_WAIT   seconds that stop waits, by default 90
set -eu
umask 077

fail() {
	echo "ferry-desk: $1" >&2
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

# lock takes the lock on file descriptor 9, or fails at once. QEMU inherits it, so
# that it is held until the machine is off, whatever ends it.
lock() {
	if command -v flock >/dev/null; then
		flock -n 9
	else
		perl -e 'open(my $lock, ">>&=", 9) or exit 2; exit !flock($lock, 6)' # exclusive, without waiting
	fi
}

# running sets state if the machine runs or is being started.
running() {
	if [ ! -e run.lock ] || (exec 9>>run.lock && lock); then
		return 1
	fi
	state="is being started"
	if [ -s ferry-desk.pid ]; then
		pid=$(cat ferry-desk.pid)
		state="runs as process $pid"
	fi
}

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
		echo "ferry-desk $state"
		exit 0
	fi
	echo "ferry-desk is off"
	exit 3
	;;
stop)
	running || { echo "ferry-desk is off"; exit 0; }
	left=${STAVREN_WAIT:-90}
	until_pressed=0
	while running; do
		[ "$left" -gt 0 ] || fail "still runs after ${STAVREN_WAIT:-90} seconds; look at its console, or end it with: kill ${pid:-PROCESS}"
		if [ "$until_pressed" -eq 0 ] && [ -p control.in ]; then
			# A machine that is still booting misses its power button, so it is pressed
			# again. The file is opened for reading too, which waits for nobody.
			echo system_powerdown 1<>control.in
			until_pressed=15
		fi
		until_pressed=$((until_pressed > 0 ? until_pressed - 1 : 0))
		left=$((left - 1))
		sleep 1
	done
	echo "ferry-desk is off"
	exit 0
	;;
remove)
	running && fail "$state; run.sh stop ends it"
	set -- root.qcow2 variables.fd tpm
	for file; do
		[ ! -e "$file" ] || echo "$PWD/$file"
	done
	confirm
	rm -rf "$@" ./*.part ./*.log ./*.sock ./*.share control.in control.out ferry-desk.pid run.lock
	echo "ferry-desk is removed"
	exit 0
	;;
*) fail "knows start, stop, status and remove, not $1" ;;
esac

exec 9>>run.lock
# A script that only looks holds the lock for a moment.
if ! lock && sleep 1 && ! lock; then
	running && fail "$state already; run.sh stop ends it"
	fail "cannot lock $PWD/run.lock"
fi
rm -f ferry-desk.pid
for program in qemu-system-x86_64 qemu-img; do
	command -v "$program" >/dev/null || fail "needs $program, which is not installed"
done
[ -n "$image" ] || image=../images/windows-server-2025.qcow2

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

# compare_size FILE BYTES: a disk that is there stays as it is.
compare_size() {
	have=$(LC_ALL=C qemu-img info -f qcow2 "$1" | sed -n 's/^virtual size: .*(\([0-9]*\) bytes).*/\1/p')
	[ -n "$have" ] || return 0
	if [ "$have" -lt "$2" ]; then
		echo "ferry-desk: $1 has $have bytes, less than the $2 of the definition; to enlarge it: qemu-img resize $PWD/$1 $2" >&2
	elif [ "$have" -gt "$2" ]; then
		echo "ferry-desk: $1 has $have bytes, more than the $2 of the definition; a disk can't be made smaller" >&2
	fi
}

# A disk is created under another name first, so that a start that is cut short
# never leaves half a disk.
if [ ! -e root.qcow2 ]; then
	[ -r "$image" ] || fail "there is no base image $image; put it there, or name one with STAVREN_IMAGE"
	format=$(format_of "$image")
	qemu-img create -q -f qcow2 -F "$format" -b "$image" root.part
	qemu-img resize -q root.part 68719476736 ||
		fail "the base image is larger than the 64GiB of the root disk; give the disk more"
	mv root.part root.qcow2
fi
compare_size root.qcow2 68719476736

accelerator=${STAVREN_ACCEL:-}
if [ -z "$accelerator" ]; then
	accelerator=tcg
	case $(uname -s)/$(uname -m) in
	Linux/x86_64) [ -w /dev/kvm ] && accelerator=kvm:tcg ;;
	Darwin/x86_64) accelerator=hvf:tcg ;;
	esac
fi

# The firmware's code is shared and read only; its variables are the machine's own.
code=
for pair in \
	/usr/share/OVMF/OVMF_CODE_4M.fd:/usr/share/OVMF/OVMF_VARS_4M.fd \
	/usr/share/OVMF/OVMF_CODE.fd:/usr/share/OVMF/OVMF_VARS.fd \
	/usr/share/edk2/ovmf/OVMF_CODE.fd:/usr/share/edk2/ovmf/OVMF_VARS.fd \
	/usr/share/edk2/x64/OVMF_CODE.4m.fd:/usr/share/edk2/x64/OVMF_VARS.4m.fd \
	/usr/share/qemu/ovmf-x86_64-code.bin:/usr/share/qemu/ovmf-x86_64-vars.bin \
	/opt/homebrew/share/qemu/edk2-x86_64-code.fd:/opt/homebrew/share/qemu/edk2-i386-vars.fd \
	/usr/local/share/qemu/edk2-x86_64-code.fd:/usr/local/share/qemu/edk2-i386-vars.fd; do
	if [ -r "${pair%%:*}" ] && [ -r "${pair#*:}" ]; then
		code=${pair%%:*} variables=${pair#*:}
		break
	fi
done
[ -n "$code" ] || fail "needs UEFI firmware for x86_64, which is not installed"
if [ ! -e variables.fd ]; then
	cp "$variables" variables.part
	chmod 0600 variables.part
	mv variables.part variables.fd
fi

rm -f control.in control.out
mkfifo -m 0600 control.in control.out

set -- \
	-name ferry-desk \
	-no-user-config -nodefaults \
	-machine "q35,accel=$accelerator,pflash0=code,pflash1=variables" \
	-blockdev "driver=raw,node-name=code,read-only=on,file.driver=file,file.filename=$code" \
	-blockdev driver=raw,node-name=variables,file.driver=file,file.filename=variables.fd \
	-cpu max \
	-smp 2 \
	-m 4096M \
	-device ich9-ahci,id=sata \
	-blockdev driver=qcow2,node-name=disk0,discard=unmap,file.driver=file,file.filename=root.qcow2 \
	-device ide-hd,drive=disk0,serial=root-95934393,bus=sata.0,bootindex=0 \
	-netdev user,id=net0,net=10.44.7.0/24,host=10.44.7.2,dns=10.44.7.1,dhcpstart=10.44.7.60,hostname=ferry-desk,dnssearch=skerry.example,hostfwd=tcp:127.0.0.1:13389-10.44.7.60:3389 \
	-device e1000,netdev=net0,mac=02:33:16:ec:66:1e \
	-display none \
	-device virtio-rng-pci \
	-rtc base=localtime \
	-qmp unix:qmp.sock,server=on,wait=off \
	-chardev pipe,id=control,path=control \
	-mon chardev=control,mode=readline \
	-pidfile ferry-desk.pid

if [ -n "${STAVREN_SEED:-}" ]; then
	set -- "$@" -smbios "type=1,serial=ds=nocloud-net;s=$STAVREN_SEED"
else
	set -- "$@" -blockdev driver=raw,node-name=seed,read-only=on,file.driver=file,file.filename=seed.iso \
		-device ide-cd,bus=sata.1,drive=seed
fi

# On a terminal the machine's console is shown; Ctrl-A X ends the machine.
console=file:console.log
if [ -t 0 ] && [ -t 1 ]; then
	console=mon:stdio
fi
echo 'ferry-desk: desktop on 127.0.0.1, port 13389/tcp' >&2

exec qemu-system-x86_64 "$@" -serial "$console"
