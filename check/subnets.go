package check

import (
	"fmt"
	"slices"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

var subnetsOverlap = Rule{
	Rule: finding.Rule{
		Name: "subnets-overlap", Severity: finding.Error, Theme: "networks",
		Why:   "Two networks claim the same addresses. Whoever is on both, the host first of all, sends to one what was meant for the other.",
		Wrong: withNetwork("mode: nat, subnet: 10.44.7.0/24}\n  pier: {mode: isolated, subnet: 10.44.0.0/16"),
		Right: withNetwork("mode: nat, subnet: 10.44.7.0/24}\n  pier: {mode: isolated, subnet: 10.45.0.0/16"),
	},
	load: func(p *pass) {
		type claimed struct {
			fleet   *fleet.Fleet
			network *fleet.Network
		}
		var all []claimed
		for f := range p.each() {
			for _, network := range f.Networks {
				if network.Subnet.IsValid() && !network.IsDefault("subnet") {
					all = append(all, claimed{f, network})
				}
			}
		}
		// Sorted by first address, a subnet can only overlap its neighbours.
		slices.SortStableFunc(all, func(a, b claimed) int { return a.network.Subnet.Addr().Compare(b.network.Subnet.Addr()) })
		for i := 1; i < len(all); i++ {
			one, two := all[i-1], all[i]
			if !one.network.Subnet.Overlaps(two.network.Subnet) || one.network.PlaceOf("subnet") == two.network.PlaceOf("subnet") {
				continue
			}
			p.fleet = two.fleet
			p.report(two.network.PlaceOf("subnet"), "networks."+two.network.Name+".subnet",
				fmt.Sprintf("the subnet %v of network %s overlaps %v of network %s", two.network.Subnet, two.network.Name, one.network.Subnet, one.network.Name),
				"give one of them another subnet", finding.Related{Place: one.network.PlaceOf("subnet"), Note: "the other subnet"})
		}
	},
}

var gatewayOutside = Rule{
	Rule: finding.Rule{
		Name: "gateway-outside-subnet", Severity: finding.Error, Theme: "networks",
		Why:   "A machine can only send through a router that it reaches, and this one is not on the network.",
		Wrong: withNetwork("mode: nat, subnet: 10.44.7.0/24, gateway: 10.44.8.1"),
		Right: withNetwork("mode: nat, subnet: 10.44.7.0/24, gateway: 10.44.7.254"),
	},
	load: func(p *pass) {
		for f := range p.each() {
			for _, network := range f.Networks {
				if network.Gateway.IsValid() && network.Subnet.IsValid() && !network.Subnet.Contains(network.Gateway) {
					p.report(network.PlaceOf("gateway"), "networks."+network.Name+".gateway",
						fmt.Sprintf("the gateway %v of network %s is outside its subnet %v", network.Gateway, network.Name, network.Subnet), "write an address of the subnet")
				}
			}
		}
	},
}

// leastBits and mostBits bound subnets: a /29 has six addresses, of which the
// router, a name server and the hypervisor take three.
const leastBits, mostBits = 8, 29

var subnetUnfit = Rule{
	Rule: finding.Rule{
		Name: "subnet-unfit", Severity: finding.Error, Theme: "networks",
		Why:   "A subnet smaller than /29 has no room for router, name server and a machine; one larger than /8 is no network that a hypervisor makes. Networks that reach out through the host are IPv4.",
		Wrong: withNetwork("mode: nat, subnet: 10.44.7.0/30"),
		Right: withNetwork("mode: nat, subnet: 10.44.7.0/29"),
	},
	load: func(p *pass) {
		for f := range p.each() {
			for _, network := range f.Networks {
				if !network.Subnet.IsValid() {
					continue
				}
				v4 := network.Subnet.Addr().Is4()
				if v4 && network.Subnet.Bits() >= leastBits && network.Subnet.Bits() <= mostBits || !v4 && network.Mode != fleet.NAT {
					continue
				}
				p.report(network.PlaceOf("subnet"), "networks."+network.Name+".subnet",
					fmt.Sprintf("the subnet %v of network %s is not one that can be made", network.Subnet, network.Name),
					fmt.Sprintf("write an IPv4 subnet from /%d to /%d", leastBits, mostBits))
			}
		}
	},
}

var subnetTooSmall = Rule{
	Rule: finding.Rule{
		Name: "subnet-too-small", Severity: finding.Error, Theme: "networks",
		Why:   "More machines are on the network than it has addresses. The last ones get none.",
		Wrong: strings.Replace(withNetwork("mode: nat, subnet: 10.44.7.0/29"), "almanac: {", "almanac: {copies: 6, ", 1),
		Right: strings.Replace(withNetwork("mode: nat, subnet: 10.44.7.0/29"), "almanac: {", "almanac: {copies: 5, ", 1),
	},
	load: func(p *pass) {
		for f := range p.each() {
			asked := map[string]int{}
			for _, m := range f.Machines {
				for _, nic := range m.NICs {
					asked[nic.Network] += 1 + len(nic.Also)
				}
			}
			for _, network := range f.Networks {
				if !network.Subnet.IsValid() || !network.Subnet.Addr().Is4() || network.Subnet.Bits() < leastBits {
					continue
				}
				room := 1<<(32-network.Subnet.Bits()) - 2
				if network.Gateway.IsValid() {
					room--
				}
				if asked[network.Name] > room && network.Subnet.Bits() <= mostBits {
					p.report(network.PlaceOf("subnet"), "networks."+network.Name+".subnet",
						fmt.Sprintf("%d addresses are asked of network %s, and its subnet %v has %d to give", asked[network.Name], network.Name, network.Subnet, room), "write a larger subnet")
				}
			}
		}
	},
}

// publicExample is a machine with a public address on a network of some mode.
func publicExample(mode string) string {
	machine := "  almanac: {image: bookworm, public_address: true, firewall: [f]}\nfirewalls:\n  f: {allow: [{port: 22/tcp, from: 198.51.100.0/24}]}\n"
	return strings.Replace(example(machine), "mode: nat", "mode: "+mode, 1)
}

var publicUnroutable = Rule{
	Rule: finding.Rule{
		Name: "public-address-unroutable", Severity: finding.Error, Theme: "networks",
		Why:   "A machine asks for a public address and is only on networks that lead nowhere. A cloud refuses to bind the address, or nothing ever arrives.",
		Wrong: publicExample("isolated"),
		Right: publicExample("nat"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		if !m.PublicAddress {
			return
		}
		for _, nic := range m.NICs {
			if network := f.Network(nic.Network); network == nil || network.Mode == fleet.NAT || network.Mode == fleet.Bridged {
				return
			}
		}
		p.report(m.PlaceOf("public_address"), machinePath(m, "public_address"),
			fmt.Sprintf("machine %s asks for a public address, and is on no network that leads out", m.Name), "put it on a nat or bridged network as well")
	},
}

var addressInDHCP = Rule{
	Rule: finding.Rule{
		Name: "address-handed-out", Severity: finding.Error, Theme: "networks",
		Why:   "A fixed address lies among those that DHCP hands out, so that another machine may be given it.",
		Wrong: withNetwork("mode: nat, subnet: 10.44.7.0/24, dhcp_first: 10.44.7.10, dhcp_last: 10.44.7.99"),
		Right: withNetwork("mode: nat, subnet: 10.44.7.0/24, dhcp_first: 10.44.7.100, dhcp_last: 10.44.7.199"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		for _, nic := range m.NICs {
			network := f.Network(nic.Network)
			if network == nil || nic.DHCP() || !network.DHCPFirst.IsValid() || nic.Address.Less(network.DHCPFirst) || network.DHCPLast.Less(nic.Address) {
				continue
			}
			p.report(nic.PlaceOf("address"), machinePath(m, "nics", nic.Name, "address"),
				fmt.Sprintf("the address %v of machine %s is among those that network %s hands out", nic.Address, m.Name, network.Name),
				"write an address outside "+network.DHCPFirst.String()+" to "+network.DHCPLast.String(),
				finding.Related{Place: network.PlaceOf("dhcp_first"), Note: "the range begins here"})
		}
	},
}

var hardwareAddressTwice = Rule{
	Rule: finding.Rule{
		Name: "hardware-address-twice", Severity: finding.Error, Theme: "networks",
		Why:   "Two interfaces with one hardware address answer in each other's place, and DHCP gives both the same address.",
		Wrong: example("  almanac: {image: bookworm, nics: {quay: {hardware_address: \"02:00:5e:10:00:01\"}}}\n  store: {image: bookworm, nics: {quay: {hardware_address: \"02:00:5e:10:00:01\"}}}\n"),
		Right: example("  almanac: {image: bookworm, nics: {quay: {hardware_address: \"02:00:5e:10:00:01\"}}}\n  store: {image: bookworm}\n"),
	},
	load: func(p *pass) {
		first := map[string]fleet.Place{}
		for _, m := range p.machines() {
			for _, nic := range m.NICs {
				place := nic.PlaceOf("hardware_address")
				earlier, used := first[nic.HardwareAddress]
				if !used {
					first[nic.HardwareAddress] = place
					continue
				}
				p.report(place, machinePath(m, "nics", nic.Name, "hardware_address"),
					fmt.Sprintf("interface %s of machine %s has the hardware address %s, which another one has too", nic.Name, m.Name, nic.HardwareAddress),
					"remove the line; one is derived", finding.Related{Place: earlier, Note: "used here first"})
			}
		}
	},
}

var primaryTwice = Rule{
	Rule: finding.Rule{
		Name: "primary-twice", Severity: finding.Error, Theme: "networks",
		Why:   "Two interfaces of a machine are to lead out. Which one does is decided by chance at each start.",
		Wrong: example("  almanac: {image: bookworm, nics: {quay: {primary: true}, second: {network: quay, primary: true}}}\n"),
		Right: example("  almanac: {image: bookworm, nics: {quay: {primary: true}, second: {network: quay}}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		var first *fleet.NIC
		for _, nic := range m.NICs {
			if nic.Primary && first != nil {
				p.report(nic.PlaceOf("primary"), machinePath(m, "nics", nic.Name, "primary"),
					fmt.Sprintf("interfaces %s and %s of machine %s are both primary", first.Name, nic.Name, m.Name), "leave primary at one of them",
					finding.Related{Place: first.PlaceOf("primary"), Note: "the other one"})
			} else if nic.Primary {
				first = nic
			}
		}
	},
}

var dnsNameTwice = Rule{
	Rule: finding.Rule{
		Name: "dns-name-twice", Severity: finding.Error, Theme: "networks",
		Why:   "Two machines claim one DNS name, and whoever asks for it gets now the one, now the other.",
		Wrong: example("  almanac: {image: bookworm, names: [tides.skerry.example]}\n  store: {image: bookworm, names: [tides.skerry.example]}\n"),
		Right: example("  almanac: {image: bookworm, names: [tides.skerry.example]}\n  store: {image: bookworm}\n"),
	},
	load: func(p *pass) {
		type owner struct {
			machine string
			noun    *fleet.Machine
		}
		first := map[string]owner{}
		for _, m := range p.machines() {
			claim := func(name string) {
				earlier, used := first[name]
				if !used {
					first[name] = owner{m.Name, m}
					return
				}
				if earlier.machine != m.Name {
					p.report(m.PlaceOfItem("names", name), machinePath(m, "names"), fmt.Sprintf("machine %s is called %s, and so is machine %s", m.Name, name, earlier.machine),
						"take the name from one of them", finding.Related{Place: earlier.noun.PlaceOfItem("names", name), Note: "claimed here first"})
				}
			}
			claim(m.FullName())
			for _, name := range m.Names {
				claim(name)
			}
		}
	},
}
