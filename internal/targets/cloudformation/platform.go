package cloudformation

import (
	_ "embed"
	"fmt"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/sizing"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/internal/targets/cloudinit"
)

//go:embed sizes.csv
var sizes string

// disks are the limits of volumes ("Amazon EBS volume types").
var disks = sizing.Disks{Min: fleet.GiB, Step: fleet.GiB}

// platform describes AWS as the EC2 user guide and API reference did in November
// 2026 ("Tag your Amazon EC2 resources", "Run commands at launch", "Device names").
var platform = cloud.New(cloud.Cloud{
	Name:  "cloudformation",
	Title: "AWS CloudFormation",
	Names: cloud.Names{Valid: cloud.Pattern(`^[A-Za-z0-9][A-Za-z0-9._-]*$`), Limit: 255},
	Labels: cloud.Labels{
		// 50 tags, less those that the platform and this template add.
		Limit: 45, KeyLimit: 128, ValueLimit: 256,
		ValidKey:   cloud.Pattern(`^[\p{L}\p{N} _.:/=+@-]+$`),
		ValidValue: cloud.Pattern(`^[\p{L}\p{N} _.:/=+@-]*$`),
	},
	FirstBoot: cloud.FirstBoot{
		Limit: 16384, Compressible: true,
		Environment: cloudinit.Environment{
			DiskDevice: func(disk *fleet.Disk) string { return "/dev/stavren/" + disk.Name },
			FindDisk:   findDisk,
		},
	},
	Disks: disks,
	Sizes: sizes,
	Settings: []cloud.Setting{
		{Key: "region", What: "the region that machines run in", Needed: cloud.Always},
		{Key: "zone", What: "the availability zone that machines run in, by default the region's first"},
		{Key: "network", What: "an existing subnet that machines are put on, instead of new ones"},
		{Key: "vpc", What: "the VPC of that subnet, which firewalls belong to"},
		{Key: "root_device", What: "the name of the root disk in the image's block device mapping"},
	},
	ImageID: "ami-0123456789abcdef0",
})

// findDisk finds a data disk. Disks are NVMe devices in an order of their own. If
// the image links them to the names of the mapping, it takes the link, and else the
// disk of the right size without partitions.
func findDisk(m *fleet.Machine, disk *fleet.Disk) string {
	name := deviceName(m, disk)
	return fmt.Sprintf("if [ -e %s ]; then readlink -f %s; else lsblk -bdnpo NAME,SIZE | awk '$2 == %d {print $1}' | "+
		"while read -r d; do [ $(lsblk -no NAME $d | wc -l) -eq 1 ] && echo $d && break; done; fi",
		name, name, int64(disks.Round(catalog.System{}, disk)))
}

// mostDisks is how many disks have device names.
const mostDisks = 12

// deviceName returns the name of a data disk in the block device mapping, from
// /dev/sdf on as the platform recommends.
func deviceName(m *fleet.Machine, disk *fleet.Disk) string {
	return "/dev/sd" + string(rune('e'+slices.Index(m.Disks, disk)))
}

// rootDevice returns the name of the root disk in an image: Debian's is /dev/xvda,
// and that of most others /dev/sda1.
func rootDevice(f *fleet.Fleet, m *fleet.Machine) string {
	if name := platform.Value(f, m, "root_device"); name != "" {
		return name
	}
	if strings.HasPrefix(catalog.Of(f, m).Name, "debian-") {
		return "/dev/xvda"
	}
	return "/dev/sda1"
}
