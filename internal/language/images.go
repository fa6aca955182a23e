package language

import (
	"strings"
	"time"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

var systemTable = newTable[fleet.System]("a system", nil, func() []field[fleet.System] {
	return []field[fleet.System]{
		{
			key: "title", doc: "Its full name.",
			def: "its name", example: "Skerry Linux 3",
			value: text(oneLine, func(s *fleet.System) *string { return &s.Title }),
		},
		{
			key: "family", doc: "The family that it belongs to.",
			example: "debian", required: true,
			value: choice(func(s *fleet.System) *string { return &s.Family }, catalog.FamilyKeys()...),
		},
		{
			key: "min_memory", doc: "The least memory that it needs.",
			def: fleet.DefaultMinMemory.String(), example: "512MiB",
			value: amount(fleet.MiB, func(s *fleet.System) *fleet.Bytes { return &s.MinMemory }),
		},
		{
			key: "min_disk", doc: "The smallest root disk that it needs.",
			def: fleet.DefaultMinDisk.String(), example: "4GiB",
			value: amount(fleet.MiB, func(s *fleet.System) *fleet.Bytes { return &s.MinDisk }),
		},
		{
			key: "login", doc: "The account that its image comes with.",
			example: "skerry",
			value:   word(userName, func(s *fleet.System) *string { return &s.Login }),
		},
		{
			key: "end_of_life", doc: "The last day with security updates.",
			example: "2031-12-31",
			value:   date(func(s *fleet.System) *time.Time { return &s.EndOfLife }),
		},
	}
})

var imageTable = newTable("an image", func(_ *Reader, i *fleet.Image) { i.SHA256 = strings.ToLower(i.SHA256) },
	func() []field[fleet.Image] {
		return []field[fleet.Image]{
			{
				key: "os", doc: "The system on the image, from the built-in list or from `systems`.",
				example: "debian-12", required: true,
				value: text(oneLine, func(i *fleet.Image) *string { return &i.OS }),
			},
			{
				key: "arch", doc: "Processor architecture.",
				def: fleet.DefaultArch, example: "amd64",
				value: choice(func(i *fleet.Image) *string { return &i.Arch }, "amd64", "arm64"),
			},
			{
				key: "file", doc: "The disk image that hypervisors boot; relative to the definition, or absolute.",
				example: "images/debian-12.qcow2",
				value: hostPath(func(i *fleet.Image) *string { return &i.File },
					func(i *fleet.Image) *string { return &i.Folder }),
			},
			{
				key: "sha256", doc: "Checksum of the file, 64 hexadecimal digits.",
				example: "\"" + strings.Repeat("0f", 32) + "\"",
				value:   text(checksum, func(i *fleet.Image) *string { return &i.SHA256 }),
			},
			{
				key: "drivers", doc: "Drivers that a prepared image has beyond those of its system.",
				example: "[virtio]",
				value:   words("drivers", driver, func(i *fleet.Image) *[]string { return &i.Drivers }),
			},
			{
				key: "ids", doc: "What each platform calls the same image, by target name.",
				example: "{heat: Debian 12}",
				value:   pairs("targets", targetName, func(i *fleet.Image) *[]fleet.Pair { return &i.IDs }),
			},
		}
	})

// driver accepts the drivers that make a difference.
func driver(name string) string {
	if name == fleet.VirtIODriver {
		return ""
	}
	return "the only driver that makes a difference is " + fleet.VirtIODriver
}

var checksum = matching(`^[0-9A-Fa-f]{64}$`, "is not a SHA-256 checksum of 64 hexadecimal digits")
