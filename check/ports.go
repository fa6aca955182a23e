package check

import (
	"fmt"
	"net/netip"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

var portClaimedTwice = Rule{
	Rule: finding.Rule{
		Name: "port-claimed-twice", Severity: finding.Error, Theme: "ports",
		Why:   "A host port takes one listener. The machine that starts second does not start at all, or starts without its port. A port on all addresses (0.0.0.0 or ::) meets the same port on any single address; TCP and UDP do not meet.",
		Wrong: example("  almanac: {image: bookworm, ports: {site: {host: 8080, machine: 80}}}\n  store: {image: bookworm, ports: {panel: {host: 8080, machine: 80}}}\n"),
		Right: example("  almanac: {image: bookworm, ports: {site: {host: 8080, machine: 80}}}\n  store: {image: bookworm, ports: {panel: {host: 8081, machine: 80}}}\n"),
	},
	load: func(p *pass) {
		type socket struct {
			protocol fleet.Protocol
			number   int
		}
		type holder struct {
			machine, port string
			listen        netip.Addr
			place         fleet.Place
		}
		held := map[socket][]holder{}
		claim := func(key socket, self holder, path string) {
			if key.number == 0 {
				return
			}
			for _, other := range held[key] {
				if meet(self.listen, other.listen) {
					p.report(self.place, path,
						fmt.Sprintf("machine %s takes host port %d/%s on %v for its %s, and machine %s takes it for its %s",
							self.machine, key.number, key.protocol, self.listen, self.port, other.machine, other.port),
						"give one of them another host port, or write auto to get a free one",
						finding.Related{Place: other.place, Note: "claimed here first"})
					break
				}
			}
			held[key] = append(held[key], self)
		}
		for f := range p.each() {
			for _, m := range f.Machines {
				for _, port := range m.Ports {
					claim(socket{port.Protocol, port.Host}, holder{m.Name, "port " + port.Name, port.Listen, placeOf(m, &port.Origins, "host")},
						machinePath(m, "ports", port.Name, "host"))
				}
				if console := &m.Console; console.Kind == fleet.Graphical {
					claim(socket{fleet.TCP, console.Port}, holder{m.Name, "console", console.Listen, placeOf(m, &console.Origins, "port")},
						machinePath(m, "console", "port"))
				}
			}
		}
	},
}

// meet reports whether two listeners on the same port get in each other's way.
// The IPv6 wildcard takes IPv4 connections too on most systems.
func meet(a, b netip.Addr) bool {
	switch {
	case a == b:
		return true
	case a.IsUnspecified():
		return a.Is6() || b.Is4() || b.IsUnspecified()
	case b.IsUnspecified():
		return meet(b, a)
	}
	return false
}

var portRangeExhausted = Rule{
	Rule: finding.Rule{
		Name: "port-range-exhausted", Severity: finding.Error, Theme: "ports",
		Why: "Ports left to `auto` are taken from 20000 to 31999. A load with more of them than that has none left to give.",
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		for _, port := range m.Ports {
			if port.Host == 0 {
				p.report(placeOf(m, &port.Origins, "host"), machinePath(m, "ports", port.Name, "host"),
					fmt.Sprintf("no host port is left for port %s of machine %s", port.Name, m.Name),
					"write a number of your own, or forward fewer ports")
			}
		}
	},
}
