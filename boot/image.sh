#!/bin/sh
# Builds the small Debian 12 image that the boot test starts: image.sh FILE. It
# starts by BIOS and by UEFI. Needs root, debootstrap, extlinux, e2fsprogs, fdisk,
# dosfstools, mtools, systemd-boot-efi and qemu-utils.
set -eu

goal=$1
work=$(mktemp -d "${TMPDIR:-/tmp}/stavren-image.XXXXXX")
root=$work/root
disk=$work/disk.raw
loop=

clean() {
	mountpoint -q "$root" && umount "$root"
	[ -z "$loop" ] || losetup -d "$loop"
	rm -rf "$work"
}
trap clean EXIT
trap 'exit 1' HUP INT TERM

# A partition for UEFI's boot loader from 1 MiB on, and one for the system, marked
# active as the boot code of the MBR wants it, and last so that it can grow.
truncate -s 1664M "$disk"
printf 'label: dos\nstart=2048, size=262144, type=ef\nstart=264192, type=83, bootable\n' | sfdisk -q "$disk"
dd if=/usr/lib/EXTLINUX/mbr.bin of="$disk" bs=440 count=1 conv=notrunc status=none

# Loop devices here may lack partition nodes, so the partition is reached by its offset.
loop=$(losetup --find --show -o 135266304 "$disk")
# extlinux reads neither 64bit block numbers nor checksummed metadata.
mkfs.ext4 -q -O '^64bit,^metadata_csum' -L system "$loop"
mkdir "$root"
mount "$loop" "$root"

# python3-cffi-backend: without it cloud-init stays unconfigured.
debootstrap --variant=minbase \
	--include=cloud-init,openssh-server,systemd-sysv,linux-image-cloud-amd64,netplan.io,systemd-resolved,sudo,iproute2,dbus,udev,python3-cffi-backend,e2fsprogs,cloud-guest-utils,fdisk,nftables \
	bookworm "$root" >"$work/debootstrap.log" 2>&1 ||
	{ tail -n 20 "$work/debootstrap.log" >&2; exit 1; }

echo 'LABEL=system / ext4 defaults 0 1' >"$root/etc/fstab"
# Seeds only: looking for clouds on the network would cost minutes, as would keys of RSA. And no
# locale: this small system has no package that could make one.
printf '%s\n' 'datasource_list: [NoCloud, None]' 'locale: false' 'ssh_genkeytypes: [ed25519]' >"$root/etc/cloud/cloud.cfg.d/90-small.cfg"
ln -s /dev/null "$root/etc/systemd/system/e2scrub_reap.service"
# Kept small and quick: no package lists, no host keys of its own.
rm -rf "$root"/var/cache/apt/archives/*.deb "$root"/var/lib/apt/lists/* "$root"/etc/ssh/ssh_host_*
: >"$root/etc/machine-id"
ln -sfn ../run/systemd/resolve/stub-resolv.conf "$root/etc/resolv.conf"

mkdir -p "$root/boot/extlinux"
cat >"$root/boot/extlinux/extlinux.conf" <<'END'
DEFAULT linux
PROMPT 0
TIMEOUT 1
LABEL linux
  LINUX /vmlinuz
  INITRD /initrd.img
  APPEND root=LABEL=system ro quiet console=ttyS0 net.ifnames=0
END
extlinux --install "$root/boot/extlinux" >/dev/null 2>&1

# UEFI starts the loader of systemd from the place for removable media.
esp=$work/esp.img
truncate -s 128M "$esp"
mkfs.vfat -F 32 "$esp" >/dev/null
mmd -i "$esp" ::/EFI ::/EFI/BOOT ::/loader ::/loader/entries
mcopy -i "$esp" /usr/lib/systemd/boot/efi/systemd-bootx64.efi ::/EFI/BOOT/BOOTX64.EFI
mcopy -i "$esp" "$root"/boot/vmlinuz-* ::/vmlinuz
mcopy -i "$esp" "$root"/boot/initrd.img-* ::/initrd.img
printf 'title Linux\nlinux /vmlinuz\ninitrd /initrd.img\noptions root=LABEL=system ro quiet console=ttyS0 net.ifnames=0\n' >"$work/linux.conf"
mcopy -i "$esp" "$work/linux.conf" ::/loader/entries/linux.conf
dd if="$esp" of="$disk" bs=1M seek=1 conv=notrunc status=none

umount "$root"
# A process in a mount namespace of its own, such as a running machine's, can keep it
# mounted. Its journal would then undo the boot sector at the first start.
if dumpe2fs -h "$loop" 2>/dev/null | grep -q needs_recovery; then
	echo "the image is still mounted in another namespace; build it while no machine runs" >&2
	exit 1
fi
losetup -d "$loop"
loop=
mkdir -p "$(dirname "$goal")"
qemu-img convert -O qcow2 -c "$disk" "$goal.part"
mv "$goal.part" "$goal"
