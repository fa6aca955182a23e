package droplet

import (
	_ "embed"
	"fmt"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/sizing"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/internal/targets/cloudinit"
)

//go:embed sizes.csv
var sizes string

// longestVolumeName is the limit for the names of volumes in characters.
const longestVolumeName = 63

// platform describes DigitalOcean as its API reference did in November 2026
// (docs.digitalocean.com, "Create a New Droplet", "Create a New Tag").
var platform = cloud.New(cloud.Cloud{
	Name:  "droplet",
	Title: "DigitalOcean Droplets",
	Names: cloud.Names{Valid: cloud.Pattern(`^[A-Za-z0-9][A-Za-z0-9.-]*$`), Limit: 63},
	Labels: cloud.Labels{
		Limit: 40, KeyLimit: 100, ValueLimit: 150,
		ValidKey: cloud.Pattern(`^[A-Za-z0-9_:-]+$`), ValidValue: cloud.Pattern(`^[A-Za-z0-9_:-]*$`),
	},
	FirstBoot: cloud.FirstBoot{
		Limit: 65536,
		Environment: cloudinit.Environment{
			// Volumes are linked by their names.
			DiskDevice: func(disk *fleet.Disk) string { return "/dev/stavren/" + disk.Name },
			FindDisk: func(m *fleet.Machine, disk *fleet.Disk) string {
				return fmt.Sprintf("d=/dev/disk/by-id/scsi-0DO_Volume_%s; "+
					"i=0; until [ -e $d ] || [ $i -ge 60 ]; do i=$((i+1)); sleep 2; done; readlink -f $d",
					volumeName(m, disk))
			},
		},
	},
	Disks: sizing.Disks{Min: fleet.GiB, Step: fleet.GiB, FixedRoot: true},
	Sizes: sizes, OneInterface: true, JoinsNetworks: true,
	AssignsAddress: func(*cloud.Cloud, *fleet.Fleet, *fleet.Machine, *fleet.NIC) bool { return false },
	Settings: []cloud.Setting{
		{Key: "region", What: "the region that machines run in", Needed: cloud.Always},
		{Key: "network", What: "the private network that machines are put on, by default the region's default one"},
	},
	ImageID: "debian-12-x64",
})

func volumeName(m *fleet.Machine, disk *fleet.Disk) string {
	return cloud.Shorten(m.Name+"-"+disk.Name, longestVolumeName)
}
