#!/bin/sh
set -eu
disk=/dev/disk/by-id/virtio-readings
if ! blkid "$disk" >/dev/null; then
    printf 'label: gpt\n,,L\n' | sfdisk "$disk"
    udevadm settle
    mkfs.ext4 -q -L readings "$disk-part1"
fi
mkdir -p /srv/readings
mount -L readings /srv/readings
