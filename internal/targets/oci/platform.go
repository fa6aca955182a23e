package oci

import (
	_ "embed"
	"slices"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/sizing"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/internal/targets/cloudinit"
)

//go:embed sizes.csv
var sizes string

// platform describes Oracle Cloud Infrastructure as its documentation did in
// November 2026 (docs.oracle.com, "Tagging Overview", "Boot Volumes",
// LaunchInstanceDetails).
var platform = cloud.New(cloud.Cloud{
	Name:  "oci",
	Title: "Oracle Cloud Infrastructure",
	Names: cloud.Names{Valid: cloud.Pattern(`^[A-Za-z0-9][A-Za-z0-9._-]*$`), Limit: 63},
	Labels: cloud.Labels{
		Limit: 10, KeyLimit: 100, ValueLimit: 256,
		ValidKey: cloud.Pattern(`^[^. \x00-\x1f]+$`), ValidValue: cloud.Pattern(`^[^\x00-\x1f]*$`),
	},
	FirstBoot: cloud.FirstBoot{
		// All metadata together count (LaunchInstanceDetails.metadata).
		Limit: 32000, Base64: true, Compressible: true,
		Beside: func(f *fleet.Fleet, m *fleet.Machine) int {
			return len("ssh_authorized_keys") + len(keys(f, m)) + len("user_data")
		},
		Environment: cloudinit.Environment{
			// The body asks for devices by name (consistent device paths).
			DiskDevice: func(disk *fleet.Disk) string { return "/dev/stavren/" + disk.Name },
			FindDisk:   func(m *fleet.Machine, disk *fleet.Disk) string { return "readlink -f " + device(m, disk) },
		},
	},
	Disks: sizing.Disks{Min: 50 * fleet.GiB, Step: fleet.GiB, MinWindowsRoot: 256 * fleet.GiB},
	Sizes: sizes, ClosedInside: true, OneInterface: true, JoinsNetworks: true, ReadsWindows: true,
	Settings: []cloud.Setting{
		{Key: "compartment", What: "the compartment that machines belong to", Needed: cloud.Always},
		{Key: "zone", What: "the availability domain that machines run in", Needed: cloud.Always},
		{Key: "network", What: "the subnet that machines are put on", Needed: cloud.Always},
		{Key: "region", What: "the region that bodies are sent to", Needed: cloud.Always},
		{Key: "vcn", What: "the network that security groups belong to"},
		{Key: "group_NAME", What: "the id of the security group NAME"},
	},
	SettingPrefix: "group_",
	ImageID:       "ocid1.image.oc1..example",
})

// device returns the path of a data disk, from /dev/oracleoci/oraclevdb on.
func device(m *fleet.Machine, disk *fleet.Disk) string {
	return "/dev/oracleoci/oraclevd" + string(rune('a'+slices.Index(m.Disks, disk)))
}
