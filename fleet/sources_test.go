package fleet_test

import (
	"fmt"
	"net/netip"
	"testing"

	"stavren.example/stavren/fleet"
)

// TestSources looks at whom an entry lets connect by name.
func TestSources(t *testing.T) {
	address := func(text string) []*fleet.NIC {
		return []*fleet.NIC{{Name: "quay", Network: "quay", Address: netip.MustParseAddr(text)}}
	}
	f := &fleet.Fleet{Name: "tide-office",
		Networks: []*fleet.Network{{Name: "quay", Mode: fleet.HostOnly, Subnet: netip.MustParsePrefix("10.44.7.0/24")},
			{Name: "shore", Mode: fleet.Bridged}},
		Firewalls: []*fleet.Firewall{{Name: "web"}},
		Machines: []*fleet.Machine{{Name: "almanac", Firewall: []string{"web"}, NICs: address("10.44.7.20")},
			{Name: "store", Firewall: []string{"web"}, NICs: address("10.44.7.21")},
			{Name: "gauge", NICs: []*fleet.NIC{{Name: "quay", Network: "quay"}}}}}
	f.Complete()
	for _, c := range []struct {
		peers []fleet.Peer
		want  string
	}{
		{nil, "[198.51.100.0/24]"},
		{[]fleet.Peer{{Kind: fleet.PeerNetwork, Name: "quay"}}, "[198.51.100.0/24 10.44.7.0/24]"},
		{[]fleet.Peer{{Kind: fleet.PeerMachine, Name: "store"}}, "[198.51.100.0/24 10.44.7.21/32]"},
		{[]fleet.Peer{{Kind: fleet.PeerFirewall, Name: "web"}, {Kind: fleet.PeerMachine, Name: "store"}},
			"[198.51.100.0/24 10.44.7.20/32 10.44.7.21/32]"},
		{[]fleet.Peer{{Kind: fleet.PeerMachine, Name: "gauge"}, {Kind: fleet.PeerNetwork, Name: "shore"},
			{Kind: fleet.PeerNetwork, Name: "nowhere"}}, "[198.51.100.0/24]"},
	} {
		t.Run(fmt.Sprint(c.peers), func(t *testing.T) {
			allow := &fleet.Allowance{From: []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24")}, FromNames: c.peers}
			if got := fmt.Sprint(f.Sources(allow)); got != c.want || allow.FromAnyone() {
				t.Errorf("got %s, want %s", got, c.want)
			}
		})
	}
	if nobody := (&fleet.Allowance{FromNames: []fleet.Peer{{Kind: fleet.PeerMachine, Name: "gauge"}}}); nobody.FromAnyone() ||
		len(f.Sources(nobody)) != 0 {
		t.Error("an entry that lets nobody connect lets everyone")
	}
}
