package check

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

func networkRules() []rule {
	return []rule{
		ofMachine("address-outside-subnet", finding.Error, addressOutsideSubnet),
		ofMachine("address-without-subnet", finding.Error, addressWithoutSubnet),
		ofMachine("address-reserved", finding.Error, addressReserved),
		ofAllFleets("address-used-twice", finding.Error, addressUsedTwice),
		ofMachine("address-handed-out", finding.Error, addressHandedOut),
		ofAllFleets("subnets-overlap", finding.Error, subnetsOverlap),
		ofFleet("subnet-unfit", finding.Error, subnetUnfit),
		ofFleet("subnet-too-small", finding.Error, subnetTooSmall),
		ofMachine("public-address-unroutable", finding.Error, publicAddressUnroutable),
		ofFleet("gateway-outside-subnet", finding.Error, gatewayOutsideSubnet),
		ofAllFleets("hardware-address-twice", finding.Error, hardwareAddressTwice),
		ofMachine("primary-twice", finding.Error, primaryTwice),
		ofAllFleets("dns-name-twice", finding.Error, dnsNameTwice),
		ofMachine("second-way-out", finding.Warning, secondWayOut),
		ofMachine("no-way-out", finding.Warning, noWayOut),
		ofMachine("no-way-in", finding.Warning, noWayIn),
	}
}

func addressOutsideSubnet(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	for _, nic := range m.NICs {
		network := f.Network(nic.Network)
		if network == nil || !network.Subnet.IsValid() || nic.DHCP() || network.Subnet.Contains(nic.Address) {
			continue
		}
		r.report(finding.OfNIC(m, nic, "address"),
			"the address %v of machine %s is outside %v, the subnet of network %s",
			nic.Address, m.Name, network.Subnet, network.Name).
			remedy("write an address of that subnet, or leave it out to get one by DHCP").
			see(finding.OfNetwork(network, "subnet"), "the subnet")
	}
}

func addressWithoutSubnet(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	for _, nic := range m.NICs {
		if network := f.Network(nic.Network); network != nil && !network.Subnet.IsValid() && !nic.DHCP() {
			r.report(finding.OfNIC(m, nic, "address"),
				"machine %s has the address %v on network %s, whose subnet is not known", m.Name, nic.Address, network.Name).
				remedy("add the subnet of the bridge to network %s, and its gateway", network.Name).
				see(finding.OfNetwork(network, fleet.Itself), "the network")
		}
	}
}

func addressReserved(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	for _, nic := range m.NICs {
		network := f.Network(nic.Network)
		if network == nil || !network.Subnet.IsValid() || nic.DHCP() {
			continue
		}
		var use string
		switch {
		case nic.Address == network.Gateway:
			use = "the gateway"
		case !network.Subnet.Addr().Is4() || network.Subnet.Bits() > 30:
			// IPv6 has no broadcast, and RFC 3021 frees both ends of a /31.
		case nic.Address == network.Subnet.Addr():
			use = "the address of the subnet itself"
		case nic.Address == fleet.Broadcast(network.Subnet):
			use = "the broadcast address"
		}
		if use != "" {
			r.report(finding.OfNIC(m, nic, "address"), "the address %v of machine %s is %s on network %s",
				nic.Address, m.Name, use, network.Name).
				remedy("write another address of the subnet")
		}
	}
}

func addressUsedTwice(t together) {
	type user struct {
		machine *fleet.Machine
		nic     *fleet.NIC
	}
	first := map[netip.Addr]user{}
	for f, m := range t.machines() {
		for _, nic := range m.NICs {
			if nic.DHCP() {
				continue
			}
			earlier, used := first[nic.Address]
			if !used {
				first[nic.Address] = user{m, nic}
				continue
			}
			t.of(f, m).report(finding.OfNIC(m, nic, "address"), "machines %s and %s both have the address %v",
				m.Name, earlier.machine.Name, nic.Address).
				remedy("give one of them another address, or none to get one by DHCP").
				see(finding.OfNIC(earlier.machine, earlier.nic, "address"), "used here first")
		}
	}
}

func addressHandedOut(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	for _, nic := range m.NICs {
		network := f.Network(nic.Network)
		if network == nil || nic.DHCP() || !network.DHCPFirst.IsValid() ||
			nic.Address.Less(network.DHCPFirst) || network.DHCPLast.Less(nic.Address) {
			continue
		}
		r.report(finding.OfNIC(m, nic, "address"), "the address %v of machine %s is in the DHCP range of network %s",
			nic.Address, m.Name, network.Name).
			remedy("write an address outside %v to %v", network.DHCPFirst, network.DHCPLast).
			see(finding.OfNetwork(network, "dhcp_first"), "the range starts here")
	}
}

func subnetsOverlap(t together) {
	type claim struct {
		fleet   *fleet.Fleet
		network *fleet.Network
	}
	var claims []claim
	for _, f := range t.fleets {
		for _, network := range f.Networks {
			if network.Subnet.IsValid() && !network.IsDefault("subnet") {
				claims = append(claims, claim{f, network})
			}
		}
	}
	// Two subnets are disjoint or one contains the other. In this order, a subnet
	// follows those that contain it.
	slices.SortStableFunc(claims, func(a, b claim) int {
		return cmp.Or(a.network.Subnet.Addr().Compare(b.network.Subnet.Addr()),
			cmp.Compare(a.network.Subnet.Bits(), b.network.Subnet.Bits()))
	})
	var containing []claim
	for _, inner := range claims {
		for len(containing) > 0 && !containing[len(containing)-1].network.Subnet.Overlaps(inner.network.Subnet) {
			containing = containing[:len(containing)-1]
		}
		if len(containing) > 0 {
			outer := containing[len(containing)-1].network
			// The same line, taken over by two definitions, is one network.
			if place := inner.network.PlaceOf("subnet"); place != outer.PlaceOf("subnet") {
				t.of(inner.fleet, nil).report(finding.OfNetwork(inner.network, "subnet"),
					"the subnet %v of network %s overlaps %v of network %s",
					inner.network.Subnet, inner.network.Name, outer.Subnet, outer.Name).
					remedy("give one of them another subnet").
					see(finding.OfNetwork(outer, "subnet"), "the other subnet")
			}
		}
		containing = append(containing, inner)
	}
}

func gatewayOutsideSubnet(r reporter, f *fleet.Fleet) {
	for _, network := range f.Networks {
		if network.Gateway.IsValid() && network.Subnet.IsValid() && !network.Subnet.Contains(network.Gateway) {
			r.report(finding.OfNetwork(network, "gateway"), "the gateway %v of network %s is outside its subnet %v",
				network.Gateway, network.Name, network.Subnet).
				remedy("write an address of the subnet")
		}
	}
}

// Prefix lengths of IPv4 subnets. A /29 has six addresses, of which the router, a
// name server and the hypervisor take three.
const (
	shortestPrefix = 8
	longestPrefix  = 29
)

func subnetUnfit(r reporter, f *fleet.Fleet) {
	for _, network := range f.Networks {
		if !network.Subnet.IsValid() || hasUsualSize(network.Subnet) ||
			network.Subnet.Addr().Is6() && network.Mode != fleet.NAT {
			continue
		}
		r.report(finding.OfNetwork(network, "subnet"), "network %s can't have the subnet %v", network.Name,
			network.Subnet).
			remedy("write an IPv4 subnet from /%d to /%d", shortestPrefix, longestPrefix)
	}
}

// hasUsualSize reports whether a hypervisor can create an IPv4 subnet.
func hasUsualSize(subnet netip.Prefix) bool {
	return subnet.Addr().Is4() && subnet.Bits() >= shortestPrefix && subnet.Bits() <= longestPrefix
}

func subnetTooSmall(r reporter, f *fleet.Fleet) {
	needed := map[string]int{}
	for _, m := range f.Machines {
		for _, nic := range m.NICs {
			needed[nic.Network] += 1 + len(nic.Also)
		}
	}
	for _, network := range f.Networks {
		if !network.Subnet.IsValid() || !hasUsualSize(network.Subnet) {
			continue
		}
		available := 1<<(32-network.Subnet.Bits()) - 2
		if network.Gateway.IsValid() {
			available--
		}
		if needed[network.Name] > available {
			r.report(finding.OfNetwork(network, "subnet"), "network %s needs %d addresses; its subnet %v has %d",
				network.Name, needed[network.Name], network.Subnet, available).
				remedy("write a larger subnet")
		}
	}
}

func publicAddressUnroutable(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	if !m.PublicAddress {
		return
	}
	for _, nic := range m.NICs {
		if network := f.Network(nic.Network); network == nil || network.Mode == fleet.NAT ||
			network.Mode == fleet.Bridged {
			return
		}
	}
	r.report(finding.OfMachine(m, "public_address"),
		"machine %s asks for a public address, but none of its networks leads out", m.Name).
		remedy("put it on a nat or bridged network as well")
}

func hardwareAddressTwice(t together) {
	type user struct {
		machine *fleet.Machine
		nic     *fleet.NIC
	}
	first := map[string]user{}
	for f, m := range t.machines() {
		for _, nic := range m.NICs {
			earlier, used := first[nic.HardwareAddress]
			if !used {
				first[nic.HardwareAddress] = user{m, nic}
				continue
			}
			t.of(f, m).report(finding.OfNIC(m, nic, "hardware_address"),
				"interface %s of machine %s has the hardware address %s, which machine %s also has",
				nic.Name, m.Name, nic.HardwareAddress, earlier.machine.Name).
				remedy("remove the line; the address is then derived from the names").
				see(finding.OfNIC(earlier.machine, earlier.nic, "hardware_address"), "used here first")
		}
	}
}

func primaryTwice(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	var first *fleet.NIC
	for _, nic := range m.NICs {
		switch {
		case !nic.Primary:
		case first == nil:
			first = nic
		default:
			r.report(finding.OfNIC(m, nic, "primary"), "interfaces %s and %s of machine %s are both primary",
				first.Name, nic.Name, m.Name).
				remedy("keep primary on one of them").
				see(finding.OfNIC(m, first, "primary"), "the other one")
		}
	}
}

func dnsNameTwice(t together) {
	first := map[string]*fleet.Machine{}
	for f, m := range t.machines() {
		claim := func(name string) {
			earlier, used := first[name]
			if !used {
				first[name] = m
				return
			}
			if earlier.Name != m.Name {
				t.of(f, m).report(finding.OfMachineItem(m, "names", name),
					"machines %s and %s both have the DNS name %s", m.Name, earlier.Name, name).
					remedy("remove the name from one of them").
					see(finding.OfMachineItem(earlier, "names", name), "claimed here first")
			}
		}
		claim(m.FullName())
		for _, name := range m.Names {
			claim(name)
		}
	}
}

func noWayIn(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	if len(m.Ports) > 0 || m.PublicAddress || m.Console.Kind == fleet.Graphical {
		return
	}
	for _, nic := range m.NICs {
		if network := f.Network(nic.Network); network == nil || network.Mode == fleet.Bridged ||
			network.Mode == fleet.HostOnly {
			return
		}
	}
	r.report(finding.OfMachine(m, fleet.Itself), "nothing leads to machine %s from outside", m.Name).
		remedy("forward a port with ports: {ssh: {machine: 22}}, or put it on a host-only or bridged network")
}

// secondWayOut reports a further interface that takes a way out from DHCP where the reader
// of first-boot data drops what would keep it from that: cloud-init writes files of
// NetworkManager there, without the overrides of DHCP (net/network_manager.py).
func secondWayOut(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	system, ok := systemOf(f, m)
	if !ok || !strings.HasPrefix(system.Name, "fedora-") && system.Name != "almalinux-10" {
		return
	}
	for _, nic := range m.NICs {
		network := f.Network(nic.Network)
		if network == nil || nic.Primary || !nic.DHCP() || network.Mode != fleet.NAT && network.Mode != fleet.Bridged {
			continue
		}
		r.report(finding.OfNIC(m, nic, fleet.Itself), "interface %s of machine %s asks DHCP, and %s takes a second way out "+
			"from it", nic.Name, m.Name, system.Title).
			remedy("give it an address of its own, or put it on an isolated or host-only network")
	}
}

// noWayOut reports a machine that fetches something at its first boot and is on no network
// that leads out.
func noWayOut(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	what := m.Fetches()
	if what == "" {
		return
	}
	for _, nic := range m.NICs {
		if network := f.Network(nic.Network); network == nil || network.Mode == fleet.NAT || network.Mode == fleet.Bridged {
			return
		}
	}
	r.report(finding.OfFirstBoot(m, fleet.Itself), "machine %s %s, but none of its networks leads out", m.Name, what).
		remedy("put it on a nat or bridged network as well, or accept this if a server on its network has what it needs")
}
