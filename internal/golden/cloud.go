package golden

import (
	"net/netip"

	"stavren.example/stavren/fleet"
)

// OpsKey is a public key that nobody has the other half of.
const OpsKey = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGvoaO8vI6N0Mop8mvDoR09k4cSDplDLDgwwYrQYFy6l ops"

// OnCloud returns a small fleet for a cloud, before it is completed: machines with an
// administrator, each on the nat network quay, and the firewall office.
func OnCloud(platform fleet.Platform, image string, names ...string) *fleet.Fleet {
	f := &fleet.Fleet{Name: "tide-office",
		Images:    []*fleet.Image{{Name: "i", OS: "debian-12", IDs: []fleet.Pair{{Key: platform.Name, Value: image}}}},
		Keys:      []*fleet.Key{{Name: "ops", Content: fleet.Content{Text: OpsKey}}},
		Networks:  []*fleet.Network{{Name: "quay", Mode: fleet.NAT, Subnet: netip.MustParsePrefix("10.44.7.0/24")}},
		Platforms: []*fleet.Platform{&platform},
		Firewalls: []*fleet.Firewall{{Name: "office", Allow: []*fleet.Allowance{{
			Port: fleet.PortRange{Protocol: fleet.TCP, First: 22, Last: 22},
			From: []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("2001:db8::/32")}}}}}}
	for _, name := range names {
		f.Machines = append(f.Machines, &fleet.Machine{Name: name, Image: "i", FirstBoot: &fleet.FirstBoot{},
			Users: []*fleet.User{{Name: "mira", Admin: fleet.AdminWithoutPassword, Keys: []string{"ops"}}},
			NICs:  []*fleet.NIC{{Name: "quay", Network: "quay"}}})
	}
	return f
}
