package heat_test

import (
	"net/netip"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/heat"
)

func TestDemo(t *testing.T) {
	golden.Compare(t, golden.Render(t, heat.Target.Target, golden.Demo(t)))
}

// TestNetworks looks at families of subnets, and at addresses that a platform's own network
// doesn't have.
func TestNetworks(t *testing.T) {
	six := func(f *fleet.Fleet) {
		f.Networks[0] = &fleet.Network{Name: "quay", Mode: fleet.Isolated, Subnet: netip.MustParsePrefix("fd00:44::/64")}
	}
	fixed := func(f *fleet.Fleet) { f.Machines[0].NICs[0].Address = netip.MustParseAddr("10.44.7.20") }
	for _, c := range []struct {
		what      string
		change    func(f *fleet.Fleet)
		want, not string
	}{
		{"IPv6", six, "ip_version: 6", "ip_version: 4"},
		{"a foreign address", fixed, "network: outside", "10.44.7.20"},
		{"an address of the subnet that is named", func(f *fleet.Fleet) {
			fixed(f)
			f.Platforms[0].Settings = []fleet.Pair{{Key: "subnet", Value: "office"}}
		}, `ip_address: "10.44.7.20"`, "first_address"},
		{"the address of the port", func(*fleet.Fleet) {}, "almanac_port_quay", "first_address"},
		{"a variant", func(f *fleet.Fleet) { f.Variant = "rehearsal" }, "tide-office-rehearsal-closed", "name: tide-office-closed"},
	} {
		t.Run(c.what, func(t *testing.T) {
			f := golden.OnCloud(fleet.Platform{Name: "heat", Network: "outside",
				Sizes: []*fleet.Size{{Name: "small", CPUs: 2, Memory: 2 * fleet.GiB, Disk: 20 * fleet.GiB}}}, "Debian 12", "almanac")
			c.change(f)
			f.Complete()
			text := string(golden.Render(t, heat.Target.Target, f)["tide-office.heat.yaml"].Data)
			if !strings.Contains(text, c.want) || strings.Contains(text, c.not) {
				t.Errorf("it has no %q, or %q:\n%s", c.want, c.not, text)
			}
		})
	}
}
