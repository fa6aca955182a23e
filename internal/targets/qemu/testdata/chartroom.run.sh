#!/bin/sh
# Desktop for the hydrographers
# Starts the virtual machine chartroom with QEMU and returns when it is off.
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
#                  as in http://10.44.7.2:8000/chartroom/
#   STAVREN_WAIT   seconds that stop waits, by default 90
set -eu
umask 077

fail() {
	echo "chartroom: $1" >&2
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
	if [ -s chartroom.pid ]; then
		pid=$(cat chartroom.pid)
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
		echo "chartroom $state"
		exit 0
	fi
	echo "chartroom is off"
	exit 3
	;;
stop)
	running || { echo "chartroom is off"; exit 0; }
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
	echo "chartroom is off"
	exit 0
	;;
remove)
	running && fail "$state; run.sh stop ends it"
	set -- root.qcow2 variables.fd tpm
	for file; do
		[ ! -e "$file" ] || echo "$PWD/$file"
	done
	confirm
	rm -rf "$@" ./*.part ./*.log ./*.sock ./*.share control.in control.out chartroom.pid run.lock
	echo "chartroom is removed"
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
rm -f chartroom.pid
for program in qemu-system-x86_64 qemu-img swtpm; do
	command -v "$program" >/dev/null || fail "needs $program, which is not installed"
done
[ -n "$image" ] || image=../images/debian-13-generic-amd64.qcow2

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
		echo "chartroom: $1 has $have bytes, less than the $2 of the definition; to enlarge it: qemu-img resize $PWD/$1 $2" >&2
	elif [ "$have" -gt "$2" ]; then
		echo "chartroom: $1 has $have bytes, more than the $2 of the definition; a disk can't be made smaller" >&2
	fi
}

# A disk is created under another name first, so that a start that is cut short
# never leaves half a disk.
if [ ! -e root.qcow2 ]; then
	[ -r "$image" ] || fail "there is no base image $image; put it there, or name one with STAVREN_IMAGE"
	format=$(format_of "$image")
	qemu-img create -q -f qcow2 -F "$format" -b "$image" root.part
	qemu-img resize -q root.part 64424509440 ||
		fail "the base image is larger than the 60GiB of the root disk; give the disk more"
	mv root.part root.qcow2
fi
compare_size root.qcow2 64424509440

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
	/usr/share/OVMF/OVMF_CODE_4M.secboot.fd:/usr/share/OVMF/OVMF_VARS_4M.ms.fd \
	/usr/share/OVMF/OVMF_CODE_4M.ms.fd:/usr/share/OVMF/OVMF_VARS_4M.ms.fd \
	/usr/share/edk2/ovmf/OVMF_CODE.secboot.fd:/usr/share/edk2/ovmf/OVMF_VARS.secboot.fd \
	/usr/share/edk2/x64/OVMF_CODE.secboot.4m.fd:/usr/share/edk2/x64/OVMF_VARS.4m.fd \
	/usr/share/qemu/ovmf-x86_64-smm-ms-code.bin:/usr/share/qemu/ovmf-x86_64-smm-ms-vars.bin; do
	if [ -r "${pair%%:*}" ] && [ -r "${pair#*:}" ]; then
		code=${pair%%:*} variables=${pair#*:}
		break
	fi
done
[ -n "$code" ] || fail "needs UEFI firmware with secure boot for x86_64, which is not installed"
if [ ! -e variables.fd ]; then
	cp "$variables" variables.part
	chmod 0600 variables.part
	mv variables.part variables.fd
fi

rm -f control.in control.out
mkfifo -m 0600 control.in control.out

set -- \
	-name chartroom \
	-no-user-config -nodefaults \
	-object memory-backend-memfd,id=memory,share=on,size=8192M \
	-machine "q35,accel=$accelerator,pflash0=code,pflash1=variables,smm=on,memory-backend=memory" \
	-blockdev "driver=raw,node-name=code,read-only=on,file.driver=file,file.filename=$code" \
	-blockdev driver=raw,node-name=variables,file.driver=file,file.filename=variables.fd \
	-global driver=cfi.pflash01,property=secure,value=on \
	-chardev socket,id=tpm,path=tpm/control \
	-tpmdev emulator,id=tpm0,chardev=tpm \
	-device tpm-crb,tpmdev=tpm0 \
	-cpu max \
	-smp 4 \
	-m 8192M \
	-blockdev driver=qcow2,node-name=disk0,discard=unmap,file.driver=file,file.filename=root.qcow2 \
	-device virtio-blk-pci,drive=disk0,serial=root-b4965ac7,bootindex=0 \
	-netdev user,id=net0,net=10.44.7.0/24,host=10.44.7.2,dns=10.44.7.1,dhcpstart=10.44.7.3,hostname=chartroom,dnssearch=skerry.example,hostfwd=tcp:127.0.0.1:28337-10.44.7.3:22 \
	-device virtio-net-pci,netdev=net0,mac=02:14:dc:c1:1c:5b \
	-chardev socket,id=share0,path=charts.share \
	-device vhost-user-fs-pci,chardev=share0,tag=charts \
	-display none \
	-device virtio-vga,edid=on,xres=1920,yres=1080 \
	-device qemu-xhci \
	-device usb-kbd \
	-device usb-tablet \
	-object secret,id=screen,file=console.password \
	-vnc 127.0.0.1:18153,password-secret=screen \
	-k fo \
	-device virtio-rng-pci \
	-device virtio-serial-pci \
	-chardev socket,id=agent,path=agent.sock,server=on,wait=off \
	-device virtserialport,chardev=agent,name=org.qemu.guest_agent.0 \
	-rtc base=utc \
	-qmp unix:qmp.sock,server=on,wait=off \
	-chardev pipe,id=control,path=control \
	-mon chardev=control,mode=readline \
	-pidfile chartroom.pid

if [ -n "${STAVREN_SEED:-}" ]; then
	set -- "$@" -smbios "type=1,serial=ds=nocloud-net;s=$STAVREN_SEED"
else
	set -- "$@" -blockdev driver=raw,node-name=seed,read-only=on,file.driver=file,file.filename=seed.iso \
		-device virtio-blk-pci,drive=seed
fi

# Helpers end with the machine, and with a start that fails.
helper=''
helpers=''
trap 'for helper in $helpers; do kill "$helper" 2>/dev/null || :; done' EXIT
trap 'exit 1' HUP INT TERM

# start_share TAG FOLDER READ-ONLY starts the helper that shows a folder of the
# host inside the machine; it ends with the machine.
start_share() {
	[ -d "$2" ] || fail "there is no folder $2 to share"
	helper=
	for program in /usr/libexec/virtiofsd /usr/lib/virtiofsd /usr/lib/qemu/virtiofsd "$(command -v virtiofsd || :)"; do
		[ -x "$program" ] && helper=$program && break
	done
	[ -n "$helper" ] || fail "needs virtiofsd for its shares, which is not installed"
	# The helper changes folders, and older ones keep a file named for the socket.
	set -- "$1" "$(cd -- "$2" && pwd)" "$3" "$PWD/$1.share"
	rm -f "$4"
	knows=$("$helper" --help 2>&1 || :)
	case $3/$knows in
	yes/*--readonly*) "$helper" --socket-path="$4" --shared-dir="$2" --readonly >"$4.log" 2>&1 9>&- & ;;
	yes/*) fail "this host's virtiofsd cannot keep the machine from writing to $2; install version 1.11 or newer" ;;
	no/*--shared-dir*) "$helper" --socket-path="$4" --shared-dir="$2" >"$4.log" 2>&1 9>&- & ;;
	*)
		# QEMU's own helper, which changes its root.
		[ "$(id -u)" = 0 ] || fail "this host's virtiofsd shares folders for root alone; start the machine as root, or install version 1.11 or newer"
		"$helper" -f --socket-path="$4" -o source="$(printf %s "$2" | sed 's/[,\\]/\\&/g')" >"$4.log" 2>&1 9>&- &
		;;
	esac
	helpers="$helpers $!"
	tries=0
	while [ ! -S "$4" ]; do
		tries=$((tries + 1))
		[ "$tries" -le 10 ] || fail "virtiofsd did not start for the share $1: $(tail -n 1 "$4.log")"
		sleep 1
	done
}
start_share charts ../charts yes

mkdir -p tpm
rm -f tpm/control
swtpm socket --tpm2 --tpmstate dir=tpm --ctrl type=unixio,path=tpm/control --terminate >tpm.log 2>&1 9>&- &
helpers="$helpers $!"
tries=0
while [ ! -S tpm/control ]; do
	tries=$((tries + 1))
	[ "$tries" -le 10 ] || fail "swtpm did not start: $(tail -n 1 tpm.log)"
	sleep 1
done

# On a terminal the machine's console is shown; Ctrl-A X ends the machine.
console=file:console.log
if [ -t 0 ] && [ -t 1 ]; then
	console=mon:stdio
fi
echo 'chartroom: ssh -p 28337 mira@127.0.0.1' >&2
echo 'chartroom: screen on 127.0.0.1, port 24053, by vnc' >&2

qemu-system-x86_64 "$@" -serial "$console" <&0 &
machine=$!
trap 'kill "$machine" 2>/dev/null || :' HUP INT TERM
code=0
wait "$machine" || code=$?
# A signal ends waiting before the machine ends.
while kill -0 "$machine" 2>/dev/null; do
	code=0
	wait "$machine" || code=$?
done
exit "$code"
