package libvirt

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/internal/xmldoc"
	"stavren.example/stavren/render"
)

// usedNetworks returns the networks that have to be defined for some machines, in the
// order of the fleet. A network on which every machine forwards ports isn't needed.
func usedNetworks(f *fleet.Fleet, machines []*fleet.Machine) []*fleet.Network {
	used := map[string]bool{}
	for _, m := range machines {
		for _, nic := range m.NICs {
			if !forwards(f, m, nic) {
				used[nic.Network] = true
			}
		}
	}
	var networks []*fleet.Network
	for _, network := range f.Networks {
		if used[network.Name] {
			networks = append(networks, network)
		}
	}
	return networks
}

// forwards reports whether ports are forwarded through an interface.
func forwards(f *fleet.Fleet, m *fleet.Machine, nic *fleet.NIC) bool {
	return len(m.Ports) > 0 && nic == f.ForwardingNIC(m)
}

// networkInterface renders an interface: on a network of libvirt's or, for forwarded
// ports, through passt, which needs no rights and listens on any address.
func networkInterface(f *fleet.Fleet, m *fleet.Machine, nic *fleet.NIC) (*xmldoc.Element, error) {
	network := f.Network(nic.Network)
	if network == nil {
		return nil, fmt.Errorf("network %q is not defined", nic.Network)
	}
	mac := xmldoc.New("mac", "address", nic.HardwareAddress)
	model := xmldoc.New("model", "type", string(hypervisor.ModelOf(f, m, nic)))
	if !forwards(f, m, nic) {
		element := xmldoc.New("interface", "type", "network").Add(mac,
			xmldoc.New("source", "network", qualified(f, network.Name)), model)
		if hasFilter(f, m) {
			element.Add(xmldoc.New("filterref", "filter", qualified(f, m.Name)))
		}
		return element, nil
	}
	element := xmldoc.New("interface", "type", "user").Add(mac)
	if nic.Address.IsValid() && network.Subnet.IsValid() {
		element.Add(xmldoc.New("ip", "family", family(nic.Address), "address", nic.Address.String(), "prefix",
			strconv.Itoa(network.Subnet.Bits())))
	}
	for _, port := range m.Ports {
		forward := xmldoc.New("portForward", "proto", string(port.Protocol), "address", port.Listen.String())
		element.Add(forward.Add(xmldoc.New("range", "start", strconv.Itoa(port.Host), "to",
			strconv.Itoa(port.Machine))))
	}
	return element.Add(model, xmldoc.New("backend", "type", "passt")), nil
}

// usesPasst reports whether passt forwards ports, by the setting `forward: passt`.
// libvirt knows it from version 9.0 on, if it was built with it.
func usesPasst(f *fleet.Fleet) bool { return hypervisor.ValueOf(f, "libvirt", "forward") == "passt" }

// firstSlot is where on the bus the interfaces begin that libvirt doesn't know of. It
// gives out slots from 1 on.
const firstSlot = 0x10

// userNetworkOptions adds the interface through which ports are forwarded: QEMU's own
// network in user mode, which every libvirt can start (kbase/qemu-passthrough.html). It
// returns nil if no port is forwarded.
func userNetworkOptions(f *fleet.Fleet, m *fleet.Machine) (*xmldoc.Element, error) {
	nic := f.ForwardingNIC(m)
	if nic == nil || !forwards(f, m, nic) || usesPasst(f) {
		return nil, nil
	}
	value, _, err := hypervisor.UserNetwork(f.Network(nic.Network), m, nic, "ports", m.Ports)
	if err != nil {
		return nil, err
	}
	model := "virtio-net-pci"
	if hypervisor.ModelOf(f, m, nic) == fleet.E1000 {
		model = "e1000"
	}
	list := xmldoc.New("qemu:commandline")
	for _, option := range []string{"-netdev", value, "-device",
		fmt.Sprintf("%s,netdev=ports,mac=%s,bus=pcie.0,addr=%#x", model, nic.HardwareAddress, firstSlot)} {
		list.Add(xmldoc.New("qemu:arg", "value", option))
	}
	return list, nil
}

func family(addr netip.Addr) string {
	if addr.Is6() {
		return "ipv6"
	}
	return "ipv4"
}

// networkFile renders a network (formatnetwork.html): its route out, its name
// server's entries, and each machine's address for DHCP.
func networkFile(f *fleet.Fleet, network *fleet.Network) render.File {
	root := xmldoc.New("network").Add(
		xmldoc.Text("name", qualified(f, network.Name)),
		xmldoc.Text("uuid", uuid(f.Name, "network", network.Name)),
	)
	switch network.Mode {
	case fleet.Bridged:
		bridge := network.Bridge
		if bridge == "" {
			bridge = "br0"
		}
		root.Add(xmldoc.New("forward", "mode", "bridge"), xmldoc.New("bridge", "name", bridge))
	case fleet.NAT:
		root.Add(xmldoc.New("forward", "mode", "nat"))
		fallthrough
	case fleet.HostOnly:
		root.Add(xmldoc.New("domain", "name", domainOf(f, network)))
		root.Add(nameServer(f, network), addresses(f, network))
	}
	return render.File{Name: networkPath(network), Data: root.Encode(), Mode: 0o644}
}

// domainOf returns the domain in which a network's name server knows the machines: its
// first search domain, or one in the top-level domain for private use (ICANN resolution
// 2024.07.29.06). Without any, systemd-resolved would ask no server for a name that has
// no dot.
func domainOf(f *fleet.Fleet, network *fleet.Network) string {
	if len(network.Search) > 0 {
		return network.Search[0]
	}
	return f.Name + ".internal"
}

// networkPath returns the name of a network's file.
func networkPath(network *fleet.Network) string { return networksFolder + "/" + network.Name + ".xml" }

// nameServer lists the further names of machines with fixed addresses.
func nameServer(f *fleet.Fleet, network *fleet.Network) *xmldoc.Element {
	list := xmldoc.New("dns")
	some := false
	for _, at := range f.OnNetwork(network.Name) {
		if at.NIC.DHCP() || forwards(f, at.Machine, at.NIC) {
			continue // the latter isn't on this network
		}
		host := xmldoc.New("host", "ip", at.NIC.Address.String())
		names := []string{at.Machine.HostName}
		for _, name := range append([]string{at.Machine.FullName()}, at.Machine.Names...) {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
		for _, name := range names {
			host.Add(xmldoc.Text("hostname", name))
		}
		list.Add(host)
		some = true
	}
	if !some {
		return nil
	}
	return list
}

// addresses gives the host its address, which is that of the gateway if there is one,
// and assigns those of the machines.
func addresses(f *fleet.Fleet, network *fleet.Network) *xmldoc.Element {
	own := hypervisor.HostAddress(f, network)
	if !own.IsValid() || !network.Subnet.IsValid() {
		return nil
	}
	dhcp := xmldoc.New("dhcp")
	first, last := network.DHCPFirst, network.DHCPLast
	if !first.IsValid() {
		first, last = network.Subnet.Masked().Addr().Next(), fleet.Broadcast(network.Subnet).Prev()
		if own == first {
			first = first.Next()
		}
		last = within(first, last)
	}
	dhcp.Add(xmldoc.New("range", "start", first.String(), "end", last.String()))
	for _, at := range f.OnNetwork(network.Name) {
		// For IPv6, DHCP knows machines by an id that they make up themselves.
		if !at.NIC.DHCP() && !forwards(f, at.Machine, at.NIC) && at.NIC.Address.Is4() {
			dhcp.Add(xmldoc.New("host", "mac", at.NIC.HardwareAddress, "name", at.Machine.HostName, "ip",
				at.NIC.Address.String()))
		}
	}
	return xmldoc.New("ip", "family", family(own), "address", own.String(), "prefix",
		strconv.Itoa(network.Subnet.Bits())).Add(dhcp)
}

// mostAddresses is the longest range that libvirt lets its DHCP server have
// (virsocketaddr.c, virSocketAddrGetRange).
const mostAddresses = 65535

// within returns the last address of a range, or an earlier one that keeps the range as
// long as it may be.
func within(first, last netip.Addr) netip.Addr {
	bytes := first.As16()
	sum := uint64(bytes[15]) | uint64(bytes[14])<<8 | uint64(bytes[13])<<16 | uint64(bytes[12])<<24
	sum += mostAddresses - 1
	bytes[15], bytes[14], bytes[13], bytes[12] = byte(sum), byte(sum>>8), byte(sum>>16), byte(sum>>24)
	farthest := netip.AddrFrom16(bytes)
	if first.Is4() {
		farthest = farthest.Unmap()
	}
	if sum < 1<<32 && farthest.Less(last) {
		return farthest
	}
	return last
}
