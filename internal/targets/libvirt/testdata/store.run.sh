#!/bin/sh
# Keeps the readings of all gauges
# Runs the virtual machine store with libvirt. The first start makes its networks,
# disks and domain; later ones keep the disks.
#
#   run.sh          start it
#   run.sh stop     shut it down, and wait
#   run.sh status   report whether it is running; the exit code is 0 if it is, 3 if not
#   run.sh remove   remove it with its disks, except those to be kept; --yes doesn't ask
#
#   STAVREN_ACCEL  tcg emulates the processor; by default KVM does its work if it can
#   STAVREN_IMAGE  base image of the root disk, instead of the definition's
#   STAVREN_WAIT   seconds that stop waits, by default 90
#   LIBVIRT_DEFAULT_URI  the libvirt to use, as in virsh(1)
set -eu
umask 077
LC_ALL=C
export LC_ALL

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
domain=tide-office-store
pool=default

command -v virsh >/dev/null || fail "needs virsh, which is not installed"
virsh uri >/dev/null || fail "cannot reach libvirt; is it running, and may this account use it?"

exists() { virsh domstate "$domain" >/dev/null 2>&1; }
running() {
	case $(virsh domstate "$domain" 2>/dev/null) in
	running | idle | paused | 'in shutdown' | pmsuspended) ;;
	*) return 1 ;;
	esac
}
has_volume() { virsh vol-info --pool "$pool" "$1" >/dev/null 2>&1; }

# quietly runs virsh and shows what it says only if it fails.
quietly() {
	if ! said=$(virsh "$@" 2>&1); then
		echo "$said" >&2
		fail "virsh $1 failed"
	fi
}

lock() {
	if command -v flock >/dev/null; then
		flock -n 9
	else
		perl -e 'open(my $lock, ">>&=", 9) or exit 2; exit !flock($lock, 6)' # exclusive, without waiting
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
case ${2:-} in
--yes) sure=yes ;;
esac
case ${1:-start} in
start) ;;
status)
	if running; then
		echo "store is running"
		exit 0
	fi
	echo "store is off"
	exit 3
	;;
stop)
	running || { echo "store is off"; exit 0; }
	left=${STAVREN_WAIT:-90}
	until_pressed=0
	while running; do
		[ "$left" -gt 0 ] || fail "still runs after ${STAVREN_WAIT:-90} seconds; look at it with: virsh console $domain, or end it with: virsh destroy $domain"
		if [ "$until_pressed" -eq 0 ]; then
			# A machine that is still booting misses its power button, so it is pressed again.
			virsh shutdown "$domain" >/dev/null 2>&1 || :
			until_pressed=15
		fi
		until_pressed=$((until_pressed - 1))
		left=$((left - 1))
		sleep 1
	done
	echo "store is off"
	exit 0
	;;
remove)
	running && fail "is running; run.sh stop ends it"
	echo "domain $domain"
	has_volume tide-office-store-seed.iso && echo "volume tide-office-store-seed.iso in pool $pool"
	has_volume tide-office-store-root.qcow2 && echo "volume tide-office-store-root.qcow2 in pool $pool"
	has_volume tide-office-store-readings.qcow2 && echo "kept: volume tide-office-store-readings.qcow2 in pool $pool"
	confirm
	if exists; then
		quietly undefine "$domain" --managed-save --snapshots-metadata --nvram
	fi
	if virsh nwfilter-dumpxml "$domain" >/dev/null 2>&1; then
		quietly nwfilter-undefine "$domain"
	fi
	if has_volume tide-office-store-seed.iso; then
		quietly vol-delete --pool "$pool" tide-office-store-seed.iso
	fi
	if has_volume tide-office-store-root.qcow2; then
		quietly vol-delete --pool "$pool" tide-office-store-root.qcow2
	fi
	# used NETWORK: another machine has an interface on it.
	used() {
		for other in $(virsh list --all --name); do
			virsh domiflist "$other" | awk '{print $3}' | grep -qxF "$1" && return 0
		done
		return 1
	}
	# drop NETWORK removes it unless it is used.
	drop() {
		if virsh net-info "$1" >/dev/null 2>&1 && ! used "$1"; then
			virsh net-destroy "$1" >/dev/null 2>&1 || :
			quietly net-undefine "$1"
		fi
	}
	drop tide-office-archive
	rm -f run.lock
	echo "store is removed"
	exit 0
	;;
*) fail "knows start, stop, status and remove, not $1" ;;
esac

exec 9>>run.lock
lock || fail "is being started already"
running && fail "is running already; run.sh stop ends it"
[ -n "$image" ] || image=../images/debian-12-generic-amd64.qcow2

# network NAME FILE: defining one that is there changes it when it starts next.
network() {
	quietly net-define "$2"
	virsh net-info "$1" | grep -q '^Active: *yes' || quietly net-start "$1"
	quietly net-autostart "$1"
}
network tide-office-archive ../networks/archive.xml

if ! virsh pool-info "$pool" >/dev/null 2>&1; then
	[ "$pool" = default ] || fail "there is no storage pool $pool; define it, or name another one in the definition"
	case $(virsh uri) in
	*/session) folder=$HOME/.local/share/libvirt/images ;;
	*) folder=/var/lib/libvirt/images ;;
	esac
	quietly pool-define-as default dir --target "$folder"
	quietly pool-build default
	quietly pool-autostart default
fi
virsh pool-info "$pool" | grep -q '^State: *running' || quietly pool-start "$pool"

# A disk whose content didn't arrive whole is no disk.
unfinished=''
undo() {
	rm -f ./*.part
	[ -z "$unfinished" ] || virsh vol-delete --pool "$pool" "$unfinished" >/dev/null 2>&1 || :
}
trap undo EXIT
trap 'exit 1' HUP INT TERM

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

# disk NAME VOLUME SIZE FULL [IMAGE]: a disk that is there stays as it is.
disk() {
	if has_volume "$2"; then
		have=$(virsh vol-info --bytes --pool "$pool" "$2" | awk '/^Capacity:/ {print $2}')
		if [ "$have" -lt "$3" ]; then
			echo "store: disk $1 has $have bytes, less than the $3 of the definition; to enlarge it: virsh vol-resize --pool $pool $2 ${3}B" >&2
		elif [ "$have" -gt "$3" ]; then
			echo "store: disk $1 has $have bytes, more than the $3 of the definition; a disk can't be made smaller" >&2
		fi
		return
	fi
	content=${5:-}
	if [ -n "$content" ]; then
		[ -r "$content" ] || fail "there is no image $content for the disk $1; put it there, or name one with STAVREN_IMAGE"
		format=$(format_of "$content")
		if [ "$format" != qcow2 ] || [ "$4" = yes ]; then
			command -v qemu-img >/dev/null || fail "needs qemu-img, which is not installed, to turn $content into a disk"
			preallocation=off
			[ "$4" = no ] || preallocation=falloc
			qemu-img convert -q -f "$format" -O qcow2 -o preallocation="$preallocation" "$content" "$1.part"
			[ "$4" = no ] || qemu-img resize -q --preallocation=falloc "$1.part" "$3" || fail "the image $content is larger than the disk $1; give the disk more"
			content=$1.part
		fi
	fi
	unfinished=$2
	quietly vol-create "$pool" "$1.volume.xml"
	if [ -n "$content" ]; then
		quietly vol-upload --pool "$pool" "$2" "$content"
		quietly pool-refresh "$pool"
		have=$(virsh vol-info --bytes --pool "$pool" "$2" | awk '/^Capacity:/ {print $2}')
		[ "$have" -le "$3" ] || fail "the image $content is larger than the disk $1; give the disk more"
		[ "$have" -eq "$3" ] || quietly vol-resize --pool "$pool" "$2" "${3}B"
	fi
	unfinished=''
}
disk root tide-office-store-root.qcow2 10737418240 no "$image"
disk readings tide-office-store-readings.qcow2 42949672960 no

# The first-boot data may have changed since the last start.
has_volume tide-office-store-seed.iso && quietly vol-delete --pool "$pool" tide-office-store-seed.iso
quietly vol-create-as "$pool" tide-office-store-seed.iso "$(wc -c <seed.iso | tr -d ' ')" --format raw
quietly vol-upload --pool "$pool" tide-office-store-seed.iso seed.iso
quietly nwfilter-define filter.xml
kind=kvm
if [ "${STAVREN_ACCEL:-}" = tcg ] || ! virsh domcapabilities --virttype kvm --arch x86_64 >/dev/null 2>&1; then
	kind=qemu
fi
sed "s/^<domain type=\"kvm\"/<domain type=\"$kind\"/" domain.xml >domain.part
quietly define domain.part
quietly autostart --disable "$domain"
quietly start "$domain"
echo "store is running"
echo 'store: ssh -p 31450 mira@127.0.0.1'
echo 'store: ssh mira@10.44.8.21'
