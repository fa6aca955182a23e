package check

import (
	"regexp"
	"slices"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

func diskRules() []rule {
	return []rule{
		ofMachine("mount-used-twice", finding.Error, mountUsedTwice),
		ofMachine("mount-hides-system", finding.Error, mountHidesSystem),
		ofMachine("label-too-long", finding.Error, labelTooLong),
		ofMachine("filesystem-unfit", finding.Error, fileSystemUnfit),
		ofMachine("filesystem-tool-missing", finding.Warning, fileSystemToolMissing),
		ofMachine("bus-cannot-boot", finding.Error, busCannotBoot),
		ofMachine("medium-boots-forever", finding.Warning, mediumBootsForever),
	}
}

func mountUsedTwice(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	first := map[string]finding.Location{}
	look := func(folder string, at finding.Location) {
		if folder == "" {
			return
		}
		earlier, used := first[folder]
		if !used {
			first[folder] = at
			return
		}
		r.report(at, "two things of machine %s are mounted on %s", m.Name, folder).
			remedy("mount one of them elsewhere").
			see(earlier, "mounted here first")
	}
	for _, disk := range m.Disks {
		look(disk.Mount, finding.OfDisk(m, disk, "mount"))
	}
	for _, share := range m.Shares {
		look(share.Machine, finding.OfShare(m, share, "machine"))
	}
}

// systemFolders hold what a system needs to boot and run.
var systemFolders = []string{
	"/bin", "/boot", "/dev", "/etc", "/lib", "/lib64", "/proc", "/root", "/run", "/sbin", "/sys",
	"/usr", "/usr/bin", "/usr/lib", "/var", "/var/lib",
}

func mountHidesSystem(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	for _, disk := range m.Disks {
		if slices.Contains(systemFolders, disk.Mount) {
			r.report(finding.OfDisk(m, disk, "mount"),
				"disk %s of machine %s is mounted on %s and hides the system's files there",
				disk.Name, m.Name, disk.Mount).
				remedy("mount it on a folder of its own below, such as %s/%s",
					strings.TrimSuffix(disk.Mount, "/"), disk.Name)
		}
	}
}

// labelLength returns the longest label of a file system in bytes, or 0 if it is
// unknown (mke2fs(8), mkfs.xfs(8), mkfs.btrfs(8), mkfs.fat(8); fs.h of UFS, MAXVOLLEN;
// zpoolprops(7)).
func labelLength(fileSystem string) int {
	switch fileSystem {
	case "ext4":
		return 16
	case "xfs":
		return 12
	case "btrfs":
		return 255
	case "vfat":
		return 11
	case "ufs":
		return 32
	case "zfs":
		return 255
	}
	return 0
}

func labelTooLong(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	for _, disk := range m.Disks {
		if limit := labelLength(disk.FileSystem); limit > 0 && len(disk.Label) > limit {
			r.report(finding.OfDisk(m, disk, "label"),
				"the label %s of disk %s has %d characters; the limit of %s is %d",
				disk.Label, disk.Name, len(disk.Label), disk.FileSystem, limit).
				remedy("add a shorter label")
		}
	}
}

// fileSystemTool returns the package with the programs for a file system if the
// images of a system don't include it, or "". Fedora's cloud images are on btrfs
// themselves.
func fileSystemTool(system catalog.System, fileSystem string) string {
	tools := map[string]string{}
	switch {
	case system.Family.Name == catalog.Debian, system.Family.Name == catalog.Alpine:
		tools = map[string]string{"xfs": "xfsprogs", "btrfs": "btrfs-progs", "vfat": "dosfstools"}
	case strings.HasPrefix(system.Name, "fedora"):
	case system.Family.Name == catalog.RedHat:
		tools = map[string]string{"btrfs": "btrfs-progs", "vfat": "dosfstools"}
	}
	return tools[fileSystem]
}

// lacksInKernel reports whether the kernel of a system can't mount a file system. Red
// Hat Enterprise Linux 8 removed btrfs, and what is built from it until version 9.
func lacksInKernel(system catalog.System, fileSystem string) bool {
	return fileSystem == "btrfs" && (system.Name == "almalinux-8" || system.Name == "almalinux-9")
}

// poolName is what zpool-create(8) takes for the name of a pool, but for its own words.
var poolName = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9._-]*$`)

// fileSystemUnfit reports a file system of FreeBSD on Linux, and what ZFS can't have. On
// FreeBSD, the file systems of Linux stand for its own, which targets say.
func fileSystemUnfit(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	system, ok := systemOf(f, m)
	if !ok {
		return
	}
	for _, disk := range m.Disks {
		native := disk.FileSystem == "ufs" || disk.FileSystem == "zfs"
		switch at := finding.OfDisk(m, disk, "filesystem"); {
		case native && system.Family.Class() == catalog.ClassLinux:
			r.report(at, "disk %s of machine %s is formatted with %s, which %s doesn't have", disk.Name, m.Name,
				disk.FileSystem, system.Title).
				remedy("use ext4 or xfs")
		case disk.FileSystem == "zfs" && len(disk.Options) > 0:
			r.report(finding.OfDisk(m, disk, "options"), "disk %s of machine %s is on ZFS, which takes no mount options",
				disk.Name, m.Name).
				remedy("remove options, or use ufs")
		case disk.FileSystem == "zfs" && !poolName.MatchString(disk.Label):
			r.report(at, "the label %s of disk %s can't be the name of a pool of ZFS", disk.Label, disk.Name).
				remedy("add a label that starts with a letter")
		}
	}
}

func fileSystemToolMissing(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	system, ok := systemOf(f, m)
	if !ok {
		return
	}
	for _, disk := range m.Disks {
		if lacksInKernel(system, disk.FileSystem) {
			r.report(finding.OfDisk(m, disk, "filesystem"),
				"disk %s of machine %s is formatted with %s, which the kernel of %s can't mount",
				disk.Name, m.Name, disk.FileSystem, system.Title).
				remedy("use xfs or ext4")
			continue
		}
		if tool := fileSystemTool(system, disk.FileSystem); tool != "" {
			r.report(finding.OfDisk(m, disk, "filesystem"),
				"disk %s of machine %s is formatted with %s, but images of %s lack the package %s",
				disk.Name, m.Name, disk.FileSystem, system.Title, tool).
				remedy("use ext4, or an image with %s and accept this with a reason", tool)
		}
	}
}

func busCannotBoot(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	root := m.Disks[0]
	at := finding.OfDisk(m, root, "bus")
	switch {
	case root.Bus == fleet.NVMe && m.Firmware.Kind == fleet.BIOS:
		r.report(at, "the root disk of machine %s is on NVMe, which a BIOS can't boot from", m.Name).
			remedy("add firmware: {kind: uefi}, or choose another bus")
	case root.Bus == fleet.VirtIO && isWindows(f, m) && !f.Image(m.Image).HasDriver(fleet.VirtIODriver):
		r.report(at, "the root disk of machine %s is on virtio, and Windows has no driver for it", m.Name).
			remedy("write bus: sata for the root disk, or drivers: [virtio] for an image that has the driver")
	}
}

func mediumBootsForever(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	for _, medium := range m.Media {
		if medium.BootFirst && !medium.Eject {
			r.report(finding.OfMedium(m, medium, "boot_first"), "machine %s boots from %s every time", m.Name,
				medium.Name).
				remedy("add eject: true, or remove boot_first")
		}
	}
}
