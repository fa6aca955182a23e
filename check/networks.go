package check

import (
	"fmt"
	"net/netip"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

var addressOutsideSubnet = Rule{
	Rule: finding.Rule{
		Name: "address-outside-subnet", Severity: finding.Error, Theme: "networks",
		Why:   "A machine whose address does not belong to its network's subnet cannot be reached and reaches nothing.",
		Wrong: example("  almanac: {image: bookworm, nics: {quay: {address: 10.44.8.20}}}\n"),
		Right: example("  almanac: {image: bookworm, nics: {quay: {address: 10.44.7.20}}}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		for _, nic := range m.NICs {
			network := f.Network(nic.Network)
			if network == nil || !network.Subnet.IsValid() || nic.DHCP() || network.Subnet.Contains(nic.Address) {
				continue
			}
			p.report(nic.PlaceOf("address"), machinePath(m, "nics", nic.Name, "address"),
				fmt.Sprintf("the address %v of machine %s is outside %v, the subnet of network %s", nic.Address, m.Name, network.Subnet, network.Name),
				"write an address of that subnet, or leave the address out to get one by DHCP",
				finding.Related{Place: network.PlaceOf("subnet"), Note: "the subnet"})
		}
	},
}

var addressReserved = Rule{
	Rule: finding.Rule{
		Name: "address-reserved", Severity: finding.Error, Theme: "networks",
		Why:   "The gateway's address belongs to the router; the first and last address of an IPv4 subnet name the network and everybody on it. A machine that takes one of them cuts off itself and others.",
		Wrong: example("  almanac: {image: bookworm, nics: {quay: {address: 10.44.7.1}}}\n"),
		Right: example("  almanac: {image: bookworm, nics: {quay: {address: 10.44.7.20}}}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		for _, nic := range m.NICs {
			network := f.Network(nic.Network)
			if network == nil || !network.Subnet.IsValid() || nic.DHCP() {
				continue
			}
			var whose string
			switch {
			case nic.Address == network.Gateway:
				whose = "is the gateway"
			case !network.Subnet.Addr().Is4() || network.Subnet.Bits() > 30:
				// IPv6 has no broadcast, and RFC 3021 frees both ends of a /31.
			case nic.Address == network.Subnet.Addr():
				whose = "names the whole subnet"
			case nic.Address == fleet.Broadcast(network.Subnet):
				whose = "is the broadcast address"
			}
			if whose != "" {
				p.report(nic.PlaceOf("address"), machinePath(m, "nics", nic.Name, "address"),
					fmt.Sprintf("the address %v of machine %s %s of network %s", nic.Address, m.Name, whose, network.Name),
					"write another address of the subnet")
			}
		}
	},
}

var addressUsedTwice = Rule{
	Rule: finding.Rule{
		Name: "address-used-twice", Severity: finding.Error, Theme: "networks",
		Why:   "Two machines with one address answer in each other's place: connections reach now the one, now the other.",
		Wrong: example("  almanac: {image: bookworm, nics: {quay: {address: 10.44.7.20}}}\n  store: {image: bookworm, nics: {quay: {address: 10.44.7.20}}}\n"),
		Right: example("  almanac: {image: bookworm, nics: {quay: {address: 10.44.7.20}}}\n  store: {image: bookworm, nics: {quay: {address: 10.44.7.21}}}\n"),
	},
	load: func(p *pass) {
		type user struct {
			machine string
			place   fleet.Place
		}
		first := map[netip.Addr]user{}
		for f := range p.each() {
			for _, m := range f.Machines {
				for _, nic := range m.NICs {
					if nic.DHCP() {
						continue
					}
					place := nic.PlaceOf("address")
					earlier, used := first[nic.Address]
					if !used {
						first[nic.Address] = user{m.Name, place}
						continue
					}
					p.report(place, machinePath(m, "nics", nic.Name, "address"),
						fmt.Sprintf("machine %s has the address %v, which machine %s has too", m.Name, nic.Address, earlier.machine),
						"give one of them another address, or none to get one by DHCP",
						finding.Related{Place: earlier.place, Note: "used here first"})
				}
			}
		}
	},
}
