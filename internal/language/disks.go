package language

import (
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
)

var diskTable = newTable("a disk", finishDisk, func() []field[fleet.Disk] {
	return []field[fleet.Disk]{
		{
			key: "size", doc: "Its size.",
			def:     fleet.DefaultRootSize.String() + " for `root`; required for other disks",
			example: "20GiB",
			value:   amount(fleet.MiB, func(d *fleet.Disk) *fleet.Bytes { return &d.Size }),
		},
		{
			key: "format", doc: "`thin` disks grow as they fill; `full` ones take all their space at once.",
			def: "thin", example: "full",
			value: choice(func(d *fleet.Disk) *fleet.DiskFormat { return &d.Format }, fleet.Thin, fleet.Full),
		},
		{
			key: "bus", doc: "The bus that it is attached to.",
			def: "virtio", example: "scsi",
			value: choice(func(d *fleet.Disk) *fleet.DiskBus { return &d.Bus }, fleet.VirtIO, fleet.SCSI, fleet.SATA,
				fleet.NVMe),
		},
		{
			key: "speed", doc: "Class of storage.",
			def: "standard", example: "fast",
			value: choice(func(d *fleet.Disk) *fleet.DiskSpeed { return &d.Speed }, fleet.Standard, fleet.Fast),
		},
		{
			key:     "filesystem",
			doc:     "The file system of a data disk. An empty disk is formatted once; a disk with data never is.",
			example: "ext4",
			value: choice(func(d *fleet.Disk) *string { return &d.FileSystem }, "ext4", "xfs", "btrfs", "vfat", "ufs",
				"zfs"),
		},
		{
			key: "label", doc: "Label of the file system; it is mounted by it.",
			def: "the disk's name", example: "pages",
			value: text(matching(`^[A-Za-z0-9][A-Za-z0-9._-]*$`, "can have only letters, digits and . _ -"),
				func(d *fleet.Disk) *string { return &d.Label }),
		},
		{
			key: "mount", doc: "Folder inside the machine where the data disk appears.",
			example: "/srv/almanac",
			value:   word(mountPoint, func(d *fleet.Disk) *string { return &d.Mount }),
		},
		{
			key: "options", doc: "Mount options in addition to the defaults.",
			example: "[noatime]",
			value:   words("mount options", mountOption, func(d *fleet.Disk) *[]string { return &d.Options }),
		},
		{
			key: "keep", doc: "Keep the disk when the machine is deleted.",
			def: "false", example: "true",
			value: boolean(func(d *fleet.Disk) *bool { return &d.Keep }),
		},
		{
			key:     "start",
			doc:     "A disk image to start a data disk with; relative to the definition, or absolute.",
			example: "images/readings.qcow2",
			value: hostPath(func(d *fleet.Disk) *string { return &d.Start },
				func(d *fleet.Disk) *string { return &d.Folder }),
		},
	}
})

func finishDisk(r *Reader, disk *fleet.Disk) {
	place := disk.PlaceOf(fleet.Itself)
	if disk.IsRoot() && (disk.FileSystem != "" || disk.Mount != "" || disk.Label != "" || disk.Start != "") {
		r.AddAt(document.BadValue, place, "the root disk comes with the image's own file system",
			"remove filesystem, label, mount and start from it; put them on a data disk")
	}
	if disk.Mount != "" && disk.FileSystem == "" {
		r.AddAt(document.MissingKey, place, "the disk "+quoted(disk.Name)+" is mounted but has no file system",
			"add `filesystem: ext4`")
	}
	if !disk.IsRoot() && disk.Size == 0 {
		r.AddAt(document.MissingKey, place, "the data disk "+quoted(disk.Name)+" has no size", "add `size: 10GiB`")
	}
}

var mediumTable = newTable[fleet.Medium]("a medium", nil, func() []field[fleet.Medium] {
	return []field[fleet.Medium]{
		{
			key: "file", doc: "The disc's image; relative to the definition, or absolute.",
			example: "images/install.iso", required: true,
			value: hostPath(func(d *fleet.Medium) *string { return &d.File },
				func(d *fleet.Medium) *string { return &d.Folder }),
		},
		{
			key: "boot_first", doc: "Boot from the disc before the disk.",
			def: "false", example: "true",
			value: boolean(func(d *fleet.Medium) *bool { return &d.BootFirst }),
		},
		{
			key: "eject", doc: "Take the disc out after the first boot.",
			def: "false", example: "true",
			value: boolean(func(d *fleet.Medium) *bool { return &d.Eject }),
		},
	}
})
