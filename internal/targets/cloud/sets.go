package cloud

import (
	"fmt"
	"slices"

	"stavren.example/stavren/fleet"
)

// Set is a set of firewall rules as clouds have them: what is not in it does not
// come in.
type Set struct {
	Name  string
	About string
	Rules []Rule
}

// Rule lets connections in. First and Last are 0 for protocols without ports;
// From is never empty.
type Rule struct {
	Protocol    fleet.Protocol
	First, Last int
	From        []string
}

// Closed is the set of machines that let nobody in.
const Closed = "closed"

// Everywhere are the prefixes that stand for everybody.
var Everywhere = []string{"0.0.0.0/0", "::/0"}

// PortsSet is the name of the set for a machine's forwarded ports.
func PortsSet(m *fleet.Machine) string { return m.Name + "-ports" }

// SetsOf names the sets that hold for a machine.
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

// Opened are the forwarded ports that become rules: those of a machine with a
// public address of which none of its firewalls speaks. Where a firewall does,
// it decides who comes in.
func Opened(f *fleet.Fleet, m *fleet.Machine) []*fleet.Port {
	if !m.PublicAddress {
		return nil
	}
	var opened []*fleet.Port
	for _, port := range m.Ports {
		if !spokenOf(f, m, port) {
			opened = append(opened, port)
		}
	}
	return opened
}

func spokenOf(f *fleet.Fleet, m *fleet.Machine, port *fleet.Port) bool {
	for _, name := range m.Firewall {
		firewall := f.Firewall(name)
		if firewall == nil {
			continue
		}
		for _, allow := range firewall.Allow {
			said := allow.Port
			if said.Protocol == fleet.AnyProtocol || said.Protocol == port.Protocol && said.First <= port.Machine && port.Machine <= said.Last {
				return true
			}
		}
	}
	return false
}

// Sets are the sets that some machines need, those of the fleet first.
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
			rule := Rule{Protocol: allow.Port.Protocol, First: allow.Port.First, Last: allow.Port.Last, From: Everywhere}
			if len(allow.From) > 0 {
				rule.From = nil
				for _, from := range allow.From {
					rule.From = append(rule.From, from.String())
				}
			}
			set.Rules = append(set.Rules, rule)
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
			set.Rules = append(set.Rules, Rule{port.Protocol, port.Machine, port.Machine, Everywhere})
		}
		sets = append(sets, set)
	}
	if used[Closed] {
		sets = append(sets, Set{Name: Closed, About: "lets nobody in, for machines of " + f.Name + " without a firewall"})
	}
	return sets
}
