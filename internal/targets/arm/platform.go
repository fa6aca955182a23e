package arm

import (
	_ "embed"
	"fmt"
	"slices"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/sizing"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/internal/targets/cloudinit"
)

//go:embed sizes.csv
var sizes string

// platform describes Azure as the Resource Manager reference did in November 2026
// (learn.microsoft.com, "Naming rules and restrictions for Azure resources", "Use
// tags", "Virtual machines: create or update").
var platform = cloud.New(cloud.Cloud{
	Name:  "arm",
	Title: "Azure Resource Manager",
	Names: cloud.Names{Valid: cloud.Pattern(`^[A-Za-z0-9][A-Za-z0-9._-]*$`), Limit: 64},
	Labels: cloud.Labels{
		Limit: 50, KeyLimit: 512, ValueLimit: 256,
		ValidKey: cloud.Pattern(`^[^<>%&\\?/\x00-\x1f]+$`), ValidValue: cloud.Pattern(`^[^\x00-\x1f]*$`),
	},
	// osProfile.adminUsername in the reference.
	ReservedLogins: []string{
		"administrator", "admin", "user", "user1", "test", "user2", "test1", "user3", "admin1", "1", "123", "a",
		"actuser",
		"adm", "admin2", "aspnet", "backup", "console", "david", "guest", "john", "owner", "root", "server", "sql",
		"support", "support_388945a0", "sys", "test2", "test3", "user4", "user5",
	},
	// "Create and use an SSH public-private key pair".
	KeyTypes:        []string{"ssh-ed25519", "ssh-rsa"},
	WindowsHostName: 15, // osProfile.computerName
	FirstBoot: cloud.FirstBoot{
		// Counted before base64 (osProfile.customData).
		Limit: 65535, Compressible: true,
		// The platform leaves it as a file, which an extension runs (firstBoot).
		WindowsScript: func(script string) string { return script },
		Environment: cloudinit.Environment{
			// The platform's agent links data disks by their logical unit (azure-vm-utils).
			DiskDevice: func(disk *fleet.Disk) string { return "/dev/stavren/" + disk.Name },
			FindDisk: func(m *fleet.Machine, disk *fleet.Disk) string {
				return fmt.Sprintf("readlink -f /dev/disk/azure/scsi1/lun%d", logicalUnit(m, disk))
			},
		},
	},
	// Root disks are at least as large as those of the marketplace's images.
	Disks: sizing.Disks{Min: fleet.GiB, Step: fleet.GiB, MinRoot: 30 * fleet.GiB, MinWindowsRoot: 127 * fleet.GiB},
	Sizes: sizes,
	Settings: []cloud.Setting{
		{Key: "region", What: "the region that machines run in", Needed: cloud.Always},
		{Key: "zone", What: "the availability zone that machines run in"},
		{Key: "network", What: "the id of an existing subnet that machines are put on, instead of new ones"},
	},
	// Or the id of an image of the account or a gallery; see imageReference.
	ImageID: "Debian:debian-12:12-gen2:latest",
})

// logicalUnit numbers the data disks of a machine from 0.
func logicalUnit(m *fleet.Machine, disk *fleet.Disk) int { return slices.Index(m.Disks, disk) - 1 }
