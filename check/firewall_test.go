package check_test

import (
	"slices"
	"testing"

	"stavren.example/stavren/check"
	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// TestLoginBehindFirewall looks at who is told that a firewall keeps people out.
func TestLoginBehindFirewall(t *testing.T) {
	for _, c := range []struct {
		what   string
		change func(m *fleet.Machine)
		told   bool
	}{
		{"a host-only machine", func(*fleet.Machine) {}, true},
		{"one that nobody is to log in to", func(m *fleet.Machine) { m.Users = nil }, false},
		{"a forwarded port", func(m *fleet.Machine) { m.Ports = []*fleet.Port{{Name: "ssh", Machine: 22}} }, false},
		{"a forwarded port and a public address", func(m *fleet.Machine) {
			m.Ports, m.PublicAddress = []*fleet.Port{{Name: "ssh", Machine: 22}}, true
		}, true},
		{"no firewall", func(m *fleet.Machine) { m.Firewall = nil }, false},
	} {
		t.Run(c.what, func(t *testing.T) {
			m := &fleet.Machine{Name: "almanac", Image: "i", FirstBoot: &fleet.FirstBoot{}, Firewall: []string{"web"},
				Users: []*fleet.User{{Name: "mira", Keys: []string{"ops"}}}}
			f := &fleet.Fleet{Name: "tide-office", Images: []*fleet.Image{{Name: "i", OS: "debian-12", File: "i.qcow2"}},
				Firewalls: []*fleet.Firewall{{Name: "web", Allow: []*fleet.Allowance{{
					Port: fleet.PortRange{Protocol: fleet.TCP, First: 443, Last: 443}}}}}, Machines: []*fleet.Machine{m}}
			c.change(m)
			f.Complete()
			found, err := check.Run(t.Context(), check.Options{}, f)
			if err != nil {
				t.Fatal(err)
			}
			told := slices.ContainsFunc(found, func(f finding.Finding) bool { return f.Rule == "firewall-shuts-login-out" })
			if told != c.told {
				t.Errorf("told %v: %v", told, found)
			}
		})
	}
}
