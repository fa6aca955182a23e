package cloud

import (
	"fmt"
	"slices"

	"stavren.example/stavren/fleet"
)

// Set is a set of firewall rules in the form that clouds have: it refuses every
// incoming connection that it doesn't allow.
type Set struct {
	Name  string
	About string
	Allow []Opening
}

// Opening allows incoming connections. First and Last are 0 for protocols without
// ports. From is never empty.
type Opening struct {
	Protocol    fleet.Protocol
	First, Last int
	From        []string
}

// Closed is the set of machines that allow no connections.
const Closed = "closed"

// Everywhere returns the prefixes that stand for everyone.
func Everywhere() []string { return []string{"0.0.0.0/0", "::/0"} }

// PortsSet returns the name of the set for a machine's forwarded ports.
func PortsSet(m *fleet.Machine) string { return m.Name + "-ports" }

// SetsOf returns the names of the sets that apply to a machine.
func SetsOf(f *fleet.Fleet, m *fleet.Machine) []string {
	names := slices.Clone(m.Firewall)
	if len(Opened(f, m)) > 0 {
		names = append(names, PortsSet(m))
	}
	if len(names) == 0 {
		names = []string{Closed}
	}
	return names
}

// Opened returns the forwarded ports that become rules: those of a machine with a
// public address for which none of its firewalls has an entry. If one has, the
// firewall decides who may connect.
func Opened(f *fleet.Fleet, m *fleet.Machine) []*fleet.Port {
	if !m.PublicAddress {
		return nil
	}
	var opened []*fleet.Port
	for _, port := range m.Ports {
		if !f.FirewallMentions(m, port.Protocol, port.Machine) {
			opened = append(opened, port)
		}
	}
	return opened
}

// Sets returns the sets that some machines need, starting with those of the fleet.
func Sets(f *fleet.Fleet, machines []*fleet.Machine) []Set {
	used := map[string]bool{}
	for _, m := range machines {
		for _, name := range SetsOf(f, m) {
			used[name] = true
		}
	}
	var sets []Set
	for _, firewall := range f.Firewalls {
		if !used[firewall.Name] {
			continue
		}
		set := Set{Name: firewall.Name, About: "firewall " + firewall.Name + " of " + f.Name}
		for _, allow := range firewall.Allow {
			opening := Opening{Protocol: allow.Port.Protocol, First: allow.Port.First, Last: allow.Port.Last,
				From: Everywhere()}
			if !allow.FromAnyone() {
				opening.From = nil
				for _, from := range f.Sources(allow) {
					opening.From = append(opening.From, from.String())
				}
			}
			if len(opening.From) > 0 {
				set.Allow = append(set.Allow, opening)
			}
		}
		sets = append(sets, set)
	}
	for _, m := range machines {
		opened := Opened(f, m)
		if len(opened) == 0 {
			continue
		}
		set := Set{Name: PortsSet(m), About: fmt.Sprintf("forwarded ports of %s of %s", m.Name, f.Name)}
		for _, port := range opened {
			set.Allow = append(set.Allow, Opening{port.Protocol, port.Machine, port.Machine, Everywhere()})
		}
		sets = append(sets, set)
	}
	if used[Closed] {
		sets = append(sets, Set{Name: Closed, About: "allows nothing, for machines of " + f.Name +
			" without a firewall"})
	}
	return sets
}
