package gce

import (
	_ "embed"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/sizing"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/internal/targets/cloudinit"
)

//go:embed sizes.csv
var sizes string

// platform describes Google Compute Engine as its documentation did in November
// 2026 (cloud.google.com, "Naming resources", "Labeling resources", "Custom metadata
// limits").
var platform = cloud.New(cloud.Cloud{
	Name:  "gce",
	Title: "Google Compute Engine",
	Names: cloud.Names{Valid: cloud.Pattern(`^[a-z]([a-z0-9-]*[a-z0-9])?$`), Limit: 63},
	Labels: cloud.Labels{
		Limit: 64, KeyLimit: 63, ValueLimit: 63, LowerCase: true,
		ValidKey: cloud.Pattern(`^[a-z][a-z0-9_-]*$`), ValidValue: cloud.Pattern(`^[a-z0-9_-]*$`),
	},
	FirstBoot: cloud.FirstBoot{
		Limit: 262144, Compressible: true, CompressedBase64: true,
		// Under a key of its own (metadata).
		WindowsScript: func(script string) string { return script },
		Environment: cloudinit.Environment{
			// The body names each device, and the image's agent links it.
			DiskDevice: func(disk *fleet.Disk) string { return "/dev/disk/by-id/google-" + disk.Name },
		},
	},
	Disks: sizing.Disks{Min: 10 * fleet.GiB, Step: fleet.GiB, MinWindowsRoot: 50 * fleet.GiB},
	Sizes: sizes, ClosedInside: true, OneInterface: true, JoinsNetworks: true,
	AssignsAddress: func(c *cloud.Cloud, f *fleet.Fleet, m *fleet.Machine, nic *fleet.NIC) bool {
		return nic == cloud.Primary(m) && c.Value(f, m, "subnetwork") != ""
	},
	Settings: []cloud.Setting{
		{Key: "project", What: "the project that machines belong to", Needed: cloud.Always},
		{Key: "zone", What: "the zone that machines run in", Needed: cloud.Always},
		{Key: "network", What: "the network that machines are put on and firewalls belong to, by default the " +
			"project's default one"},
		{Key: "subnetwork", What: "the subnet that machines are put on, which fixed addresses need; its network is the " +
			"one above"},
	},
	ImageID: "projects/debian-cloud/global/images/family/debian-12",
})
