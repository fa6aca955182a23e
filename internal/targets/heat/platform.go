package heat

import (
	"fmt"
	"slices"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/sizing"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/internal/targets/cloudinit"
)

// platform describes OpenStack as its API reference does (Compute API, "Create
// Server"; Block Storage API). Limits are the usual ones as of November 2026; a
// provider may have set others.
var platform = cloud.New(cloud.Cloud{
	Name:  "heat",
	Title: "OpenStack Heat",
	Names: cloud.Names{Valid: cloud.Pattern(`^[A-Za-z0-9][A-Za-z0-9._-]*$`), Limit: 255},
	Labels: cloud.Labels{
		Limit: 128, KeyLimit: 255, ValueLimit: 255,
		ValidKey: cloud.Pattern(`^[^\x00-\x1f]*$`), ValidValue: cloud.Pattern(`^[^\x00-\x1f]*$`),
	},
	FirstBoot: cloud.FirstBoot{
		Limit: 65535, Base64: true,
		Environment: cloudinit.Environment{
			DiskDevice: func(disk *fleet.Disk) string { return "/dev/stavren/" + disk.Name },
			// A volume is attached after the machine has started, under the first twenty
			// characters of an identifier that the template fills in.
			FindDisk: func(_ *fleet.Machine, disk *fleet.Disk) string {
				return fmt.Sprintf("d=/dev/disk/by-id/virtio-$(echo %s | cut -c1-20); "+
					"i=0; until [ -e $d ] || [ $i -ge 60 ]; do i=$((i+1)); sleep 2; done; readlink -f $d", marker(disk))
			},
			GuestTools: "qemu-guest-agent",
		},
	},
	Disks:        sizing.Disks{Min: fleet.GiB, Step: fleet.GiB},
	ReadsWindows: true, JoinsNetworks: true,
	AssignsAddress: func(c *cloud.Cloud, f *fleet.Fleet, m *fleet.Machine, nic *fleet.NIC) bool {
		network := f.Network(nic.Network)
		return network == nil || !cloud.LeadsOut(network) || c.Value(f, m, "subnet") != ""
	},
	Settings: []cloud.Setting{
		{Key: "network", What: "the network that machines are put on", Needed: leadsOut},
		{Key: "subnet", What: "the subnet of that network, which fixed addresses need"},
		{Key: "address_pool", What: "the pool that public addresses come from",
			Needed: func(_ *fleet.Fleet, m *fleet.Machine) bool { return m.PublicAddress }},
		{Key: "zone", What: "the availability zone that machines run in"},
		{Key: "fast_volume_type", What: "the type of volumes for disks with speed: fast"},
	},
	ImageID: "Debian 12",
})

// leadsOut reports whether a machine is on a network with a route to the world.
func leadsOut(f *fleet.Fleet, m *fleet.Machine) bool {
	return slices.ContainsFunc(m.NICs, func(nic *fleet.NIC) bool {
		network := f.Network(nic.Network)
		return network != nil && cloud.LeadsOut(network)
	})
}

// marker stands for a volume's identifier in user data.
func marker(disk *fleet.Disk) string { return "@volume-" + disk.Name + "@" }
