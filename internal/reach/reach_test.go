package reach_test

import (
	"net/netip"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/reach"
)

func machine(change func(m *fleet.Machine)) (*fleet.Fleet, *fleet.Machine) {
	m := &fleet.Machine{Name: "almanac", Image: "i"}
	change(m)
	f := &fleet.Fleet{Name: "tide-office", Machines: []*fleet.Machine{m}, Keys: []*fleet.Key{
		{Name: "ops", Content: fleet.Content{File: "keys/ops.pub"}}, {Name: "typed"},
		{Name: "odd", Content: fleet.Content{File: "my keys/ops.pub"}},
	}}
	f.Complete()
	return f, m
}

func TestWays(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(m *fleet.Machine)
		want   string
	}{
		{"SSH by the administrator's key", func(m *fleet.Machine) {
			m.Users = []*fleet.User{{Name: "eyd", Keys: []string{"typed"}},
				{Name: "mira", Keys: []string{"ops"}, Admin: fleet.AdminWithPassword}}
			m.Ports = []*fleet.Port{{Name: "ssh", Host: 2222, Machine: 22}}
		}, "ssh -p 2222 -i keys/ops mira@127.0.0.1"},
		{"a key that was typed in has no file", func(m *fleet.Machine) {
			m.Users = []*fleet.User{{Name: "eyd", Keys: []string{"typed"}}}
			m.Ports = []*fleet.Port{{Name: "ssh", Host: 2222, Machine: 22}}
		}, "ssh -p 2222 eyd@127.0.0.1"},
		{"a path that a shell would divide is left out", func(m *fleet.Machine) {
			m.Users = []*fleet.User{{Name: "eyd", Keys: []string{"odd"}}}
			m.Ports = []*fleet.Port{{Name: "ssh", Host: 2222, Machine: 22}}
		}, "ssh -p 2222 eyd@127.0.0.1"},
		{"pages, and every address by the loopback one", func(m *fleet.Machine) {
			m.Ports = []*fleet.Port{
				{Name: "a", Host: 8080, Machine: 80, Listen: netip.MustParseAddr("0.0.0.0")},
				{Name: "b", Host: 8443, Machine: 443, Listen: netip.MustParseAddr("::")},
				{Name: "c", Host: 5353, Machine: 53, Protocol: fleet.UDP},
				{Name: "d", Host: 5432, Machine: 5432, Listen: netip.MustParseAddr("192.0.2.7")},
			}
		}, "http://127.0.0.1:8080/, https://[::1]:8443/, 127.0.0.1:5353, 192.0.2.7:5432"},
		{"UDP on a web port is no page", func(m *fleet.Machine) {
			m.Ports = []*fleet.Port{{Name: "a", Host: 8080, Machine: 80, Protocol: fleet.UDP}}
		}, "127.0.0.1:8080"},
		{"graphical console", func(m *fleet.Machine) {
			m.Console = fleet.Console{Kind: fleet.Graphical, Port: 5901, Protocol: fleet.SPICE}
		}, "spice://127.0.0.1:5901"},
	} {
		t.Run(c.name, func(t *testing.T) {
			f, m := machine(c.change)
			var got []string
			for _, way := range reach.Of(f, m).Ways {
				got = append(got, way.Open)
			}
			if strings.Join(got, ", ") != c.want {
				t.Errorf("%s: got %q, want %q", c.name, got, c.want)
			}
		})
	}
}

func TestMissing(t *testing.T) {
	for _, c := range []struct {
		change func(m *fleet.Machine)
		want   string
	}{
		{func(*fleet.Machine) {}, "add a user with a key"},
		{func(m *fleet.Machine) { m.Users = []*fleet.User{{Name: "eyd"}} }, "no user has a key"},
		{func(m *fleet.Machine) { m.Users = []*fleet.User{{Name: "eyd", Keys: []string{"ops"}}} },
			"forward a port with"},
	} {
		t.Run(c.want, func(t *testing.T) {
			f, m := machine(c.change)
			if r := reach.Of(f, m); !strings.Contains(r.Missing, c.want) || r.Config != "" {
				t.Errorf("missing %q, want %q; configuration %q", r.Missing, c.want, r.Config)
			}
		})
	}
}

func TestConfig(t *testing.T) {
	f, m := machine(func(m *fleet.Machine) {
		m.Users = []*fleet.User{{Name: "mira", Keys: []string{"ops"}}}
		m.Ports = []*fleet.Port{{Name: "ssh", Host: 2222, Machine: 22}}
	})
	want := "Host almanac\n  HostName 127.0.0.1\n  Port 2222\n  User mira\n  HostKeyAlias almanac.tide-office\n" +
		"  StrictHostKeyChecking accept-new\n"
	if r := reach.Of(f, m); r.Config != want || r.Missing != "" {
		t.Errorf("got %q, missing %q", r.Config, r.Missing)
	}
}
