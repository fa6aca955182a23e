package check

import (
	"fmt"
	"slices"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

var mountTwice = Rule{
	Rule: finding.Rule{
		Name: "mount-used-twice", Severity: finding.Error, Theme: "disks",
		Why:   "Two disks or shares appear in one folder: the later one hides the earlier, and which is later is chance.",
		Wrong: example("  almanac: {image: bookworm, disks: {a: {size: 1GiB, filesystem: ext4, mount: /srv}, b: {size: 1GiB, filesystem: ext4, mount: /srv}}}\n"),
		Right: example("  almanac: {image: bookworm, disks: {a: {size: 1GiB, filesystem: ext4, mount: /srv/a}, b: {size: 1GiB, filesystem: ext4, mount: /srv/b}}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		first := map[string]fleet.Place{}
		look := func(folder string, place fleet.Place, path string) {
			if folder == "" {
				return
			}
			if earlier, used := first[folder]; used {
				p.report(place, path, fmt.Sprintf("two things of machine %s are mounted on %s", m.Name, folder), "mount one of them elsewhere",
					finding.Related{Place: earlier, Note: "mounted here first"})
				return
			}
			first[folder] = place
		}
		for _, disk := range m.Disks {
			look(disk.Mount, disk.PlaceOf("mount"), machinePath(m, "disks", disk.Name, "mount"))
		}
		for _, share := range m.Shares {
			look(share.Machine, share.PlaceOf("machine"), machinePath(m, "shares", share.Name, "machine"))
		}
	},
}

// systemFolders hold what a system needs to start or to run at all; whatever is
// mounted on one of them hides it.
var systemFolders = []string{"/bin", "/boot", "/dev", "/etc", "/lib", "/lib64", "/proc", "/root", "/run", "/sbin", "/sys", "/usr", "/usr/bin", "/usr/lib", "/var", "/var/lib"}

var mountHides = Rule{
	Rule: finding.Rule{
		Name: "mount-hides-system", Severity: finding.Error, Theme: "disks",
		Why:   "An empty disk is mounted over a folder that the system needs, and hides what is in it.",
		Wrong: example("  almanac: {image: bookworm, disks: {data: {size: 1GiB, filesystem: ext4, mount: /var}}}\n"),
		Right: example("  almanac: {image: bookworm, disks: {data: {size: 1GiB, filesystem: ext4, mount: /var/lib/tides}}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		for _, disk := range m.Disks {
			if slices.Contains(systemFolders, disk.Mount) {
				p.report(disk.PlaceOf("mount"), machinePath(m, "disks", disk.Name, "mount"),
					fmt.Sprintf("disk %s of machine %s is mounted on %s and hides what the system keeps there", disk.Name, m.Name, disk.Mount),
					"mount it on a folder of its own below, such as "+strings.TrimSuffix(disk.Mount, "/")+"/"+disk.Name)
			}
		}
	},
}

// labelLengths are the longest labels in bytes (mke2fs(8), mkfs.xfs(8),
// mkfs.btrfs(8), mkfs.fat(8)).
var labelLengths = map[string]int{"ext4": 16, "xfs": 12, "btrfs": 255, "vfat": 11}

var labelTooLong = Rule{
	Rule: finding.Rule{
		Name: "label-too-long", Severity: finding.Error, Theme: "disks",
		Why:   "The file system cuts the label off or refuses to be made, and the disk is never found by it. The label is the disk's name unless it is given.",
		Wrong: example("  almanac: {image: bookworm, disks: {tide-tables-archive: {size: 1GiB, filesystem: ext4, mount: /srv}}}\n"),
		Right: example("  almanac: {image: bookworm, disks: {tide-tables-archive: {size: 1GiB, filesystem: ext4, mount: /srv, label: tables}}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		for _, disk := range m.Disks {
			if most, known := labelLengths[disk.FileSystem]; known && len(disk.Label) > most {
				p.report(disk.PlaceOf("label"), machinePath(m, "disks", disk.Name, "label"),
					fmt.Sprintf("the label %s of disk %s has %d characters, and %s takes %d", disk.Label, disk.Name, len(disk.Label), disk.FileSystem, most),
					"write a shorter label:")
			}
		}
	},
}

// fileSystemTools are the packages with the programs that make a file system,
// where a family's images come without them.
var fileSystemTools = map[string]map[string]string{
	"Debian":  {"xfs": "xfsprogs", "btrfs": "btrfs-progs", "vfat": "dosfstools"},
	"Red Hat": {"btrfs": "btrfs-progs", "vfat": "dosfstools"},
	"Alpine":  {"xfs": "xfsprogs", "btrfs": "btrfs-progs", "vfat": "dosfstools"},
}

var fileSystemTool = Rule{
	Rule: finding.Rule{
		Name: "filesystem-tool-missing", Severity: finding.Warning, Theme: "disks",
		Why:   "Disks are formatted early at first boot, before any package is installed. An image that lacks the file system's tools leaves the disk empty and unmounted.",
		Wrong: example("  almanac: {image: bookworm, disks: {data: {size: 1GiB, filesystem: xfs, mount: /srv}}}\n"),
		Right: example("  almanac: {image: bookworm, disks: {data: {size: 1GiB, filesystem: ext4, mount: /srv}}}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		system, known := systemOf(f, m)
		if !known {
			return
		}
		for _, disk := range m.Disks {
			if tool := fileSystemTools[system.Family.Name][disk.FileSystem]; tool != "" {
				p.report(disk.PlaceOf("filesystem"), machinePath(m, "disks", disk.Name, "filesystem"),
					fmt.Sprintf("disk %s of machine %s is formatted with %s, for which images of %s lack the package %s", disk.Name, m.Name, disk.FileSystem, system.Title, tool),
					"use ext4, or an image with "+tool+" and accept this with a reason")
			}
		}
	},
}
