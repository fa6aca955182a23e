package gce_test

import (
	"net/netip"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/gce"
)

func TestDemo(t *testing.T) {
	golden.Compare(t, golden.Render(t, gce.Target.Target, golden.Demo(t), golden.Machines...))
}

// definition is a fleet of some machines in one zone.
func definition(names ...string) *fleet.Fleet {
	return golden.OnCloud(fleet.Platform{Name: "gce", Zone: "europe-north1-a",
		Settings: []fleet.Pair{{Key: "project", Value: "tides"}}}, "projects/debian-cloud/global/images/family/debian-12", names...)
}

func rendered(t *testing.T, f *fleet.Fleet, file string) golden.Document {
	t.Helper()
	f.Complete()
	data := golden.Render(t, gce.Target.Target, f)[file].Data
	if data == nil {
		t.Fatalf("there is no %s", file)
	}
	return golden.Read(t, data)
}

func TestInstance(t *testing.T) {
	for _, c := range []struct {
		what   string
		change func(f *fleet.Fleet, m *fleet.Machine)
		want   map[string]any
	}{
		{"scopes by their short names", func(_ *fleet.Fleet, m *fleet.Machine) {
			m.Identity = fleet.Identity{Account: "tides@tides.iam.gserviceaccount.com", Scopes: []string{"storage-ro", "pubsub"}}
		}, map[string]any{"serviceAccounts/0/scopes": "[https://www.googleapis.com/auth/devstorage.read_only " +
			"https://www.googleapis.com/auth/pubsub]"}},
		{"a subnet without a network", func(f *fleet.Fleet, _ *fleet.Machine) {
			f.Platforms[0].Settings = append(f.Platforms[0].Settings, fleet.Pair{Key: "subnetwork", Value: "regions/r/subnetworks/s"})
		}, map[string]any{"networkInterfaces/0/network": nil, "networkInterfaces/0/subnetwork": "regions/r/subnetworks/s"}},
		{"keys of administrators alone", func(f *fleet.Fleet, m *fleet.Machine) {
			m.Users = append(m.Users, &fleet.User{Name: "eyd", Keys: []string{"ops"}})
		}, map[string]any{"metadata/items/1/value": "mira:" + golden.OpsKey}},
		{"the tag of every machine", func(*fleet.Fleet, *fleet.Machine) {}, map[string]any{
			"tags/items": "[tide-office-closed tide-office-every-machine]"}},
		{"a fleet that starts with a digit", func(f *fleet.Fleet, _ *fleet.Machine) { f.Name = "2tides" }, map[string]any{
			"tags/items/0": "fleet-2tides-closed"}},
		{"a variant of the fleet", func(f *fleet.Fleet, _ *fleet.Machine) { f.Variant = "rehearsal" }, map[string]any{
			"tags/items/0": "tide-office-rehearsal-closed"}},
	} {
		t.Run(c.what, func(t *testing.T) {
			f := definition("almanac")
			c.change(f, f.Machines[0])
			rendered(t, f, "almanac/instance.json").Wants(t, c.want)
		})
	}
}

// TestWindows looks at the script that the platform's own images run.
func TestWindows(t *testing.T) {
	f := definition("almanac")
	f.Images[0].OS = "windows-server-2022"
	document := rendered(t, f, "almanac/instance.json")
	document.Wants(t, map[string]any{"metadata/items/0/key": "windows-startup-script-ps1", "metadata/items/1": nil})
	script, _ := document.At("metadata/items/0/value").(string)
	for _, want := range []string{"if (Test-Path $done) { exit }", "New-LocalUser -Name 'mira' -NoPassword",
		"Add-LocalGroupMember -Group 'Administrators' -Member 'mira'", "Rename-Computer -NewName 'almanac'"} {
		if !strings.Contains(script, want) {
			t.Errorf("no %s in\n%s", want, script)
		}
	}
}

// TestFirewalls looks at the networks of firewalls, and at what refuses the rest.
func TestFirewalls(t *testing.T) {
	f := definition("almanac", "store")
	f.Machines[0].Firewall, f.Machines[1].Firewall = []string{"office"}, []string{"office"}
	f.Machines[1].Platforms = []*fleet.Platform{{Name: "gce", Network: "global/networks/reef"}}
	rendered(t, f, "firewall-office.json").Wants(t, map[string]any{"network": "global/networks/default",
		"sourceRanges": "[198.51.100.0/24]", "name": "tide-office-office"})
	rendered(t, f, "firewall-office-2.json").Wants(t, map[string]any{"sourceRanges": "[2001:db8::/32]"})
	rendered(t, f, "firewall-office-3.json").Wants(t, map[string]any{"network": "global/networks/reef"})
	rendered(t, f, "firewall-every-machine.json").Wants(t, map[string]any{"denied/0/IPProtocol": "all", "priority": 2000,
		"sourceRanges": "[0.0.0.0/0]", "targetTags": "[tide-office-every-machine]", "allowed": nil})
	rendered(t, f, "firewall-every-machine-4.json").Wants(t, map[string]any{"network": "global/networks/reef"})
}

func TestNeeds(t *testing.T) {
	for _, c := range []struct {
		rule   string
		change func(f *fleet.Fleet, m *fleet.Machine)
	}{
		{"identity-refused", func(_ *fleet.Fleet, m *fleet.Machine) { m.Identity.Account = "tides" }},
		{"interfaces-left-out", func(f *fleet.Fleet, m *fleet.Machine) {
			f.Networks = append(f.Networks, &fleet.Network{Name: "reef", Mode: fleet.Isolated, Subnet: netip.MustParsePrefix("10.44.9.0/24")})
			m.NICs = append(m.NICs, &fleet.NIC{Name: "reef", Network: "reef"})
		}},
		{"no-way-out", func(_ *fleet.Fleet, m *fleet.Machine) { m.FirstBoot.Packages = []string{"nginx"} }},
		{"unknown-setting", func(f *fleet.Fleet, _ *fleet.Machine) {
			f.Platforms[0].Settings = append(f.Platforms[0].Settings, fleet.Pair{Key: "projet", Value: "x"})
		}},
		{"unknown-size", func(f *fleet.Fleet, _ *fleet.Machine) { f.Platforms[0].Size = "c9-new-4" }},
		{"placeholder-left", func(f *fleet.Fleet, _ *fleet.Machine) {
			f.Platforms[0].Settings = append(f.Platforms[0].Settings, fleet.Pair{Key: "subnetwork", Value: "s"})
		}},
	} {
		t.Run(c.rule, func(t *testing.T) {
			f := definition("almanac")
			c.change(f, f.Machines[0])
			f.Complete()
			found := ""
			for _, need := range gce.Target.Needs(f, f.Machines[0]) {
				found += need.Rule + " "
			}
			if !strings.Contains(found, c.rule+" ") {
				t.Errorf("%s is not among %s", c.rule, found)
			}
		})
	}
}
