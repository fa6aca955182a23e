package cloudinit

import (
	"fmt"
	"net/netip"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
)

// NetworkConfig renders the network interfaces in version 2 of cloud-init's network
// configuration. Interfaces are identified by hardware address and named eth0, eth1,
// … so that every renderer inside the guest agrees.
func NetworkConfig(f *fleet.Fleet, m *fleet.Machine, environment Environment) ([]byte, error) {
	ethernets := &yaml.Node{Kind: yaml.MappingNode}
	for i, nic := range m.NICs {
		network := f.Network(nic.Network)
		if network == nil {
			return nil, fmt.Errorf("network %q is not defined", nic.Network)
		}
		pairs := []any{
			"match", mapping("macaddress", quotedNode(nic.HardwareAddress)),
			"set-name", fmt.Sprintf("eth%d", i),
		}
		var addresses []string
		address := environment.addressOf(f, network, nic)
		handedOut := !address.IsValid() || environment.HandsOut != nil && environment.HandsOut(f, m, nic)
		if handedOut {
			pairs = append(pairs, "dhcp4", true)
			if !nic.Primary {
				// Another interface leads out, so this one's router must not compete.
				pairs = append(pairs, "dhcp4-overrides", flow(mapping("use-routes", false)))
			}
		} else {
			addresses = append(addresses, netip.PrefixFrom(address, subnetBits(network, address)).String())
		}
		for _, also := range nic.Also {
			addresses = append(addresses, also.String())
		}
		pairs = append(pairs, "addresses", flow(node(addresses)), "routes", routes(network, nic, handedOut))
		if !handedOut {
			pairs = append(pairs, "nameservers", nameServers(network))
		}
		ethernets.Content = append(ethernets.Content, node(nic.Name), mapping(pairs...))
	}
	return encode("", mapping("version", 2, "ethernets", ethernets))
}

// addressOf returns the address that an interface gets here, or none if it uses DHCP.
func (e Environment) addressOf(f *fleet.Fleet, network *fleet.Network, nic *fleet.NIC) netip.Addr {
	if e.NoDHCP != nil && e.NoDHCP(network) {
		return f.Assigned(nic)
	}
	return nic.Address
}

// quotedNode keeps six pairs of digits from being read as a number in base 60.
func quotedNode(text string) *yaml.Node {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text, Style: yaml.DoubleQuotedStyle}
}

// subnetBits returns the prefix length of the network, or that of a single address if
// a bridged network has no subnet.
func subnetBits(network *fleet.Network, addr netip.Addr) int {
	if network.Subnet.IsValid() {
		return network.Subnet.Bits()
	}
	return addr.BitLen()
}

// routes leads out through the primary interface's gateway, unless DHCP provides the
// route, and to the networks that the definition names. The route out is written as a
// prefix, which older readers also know.
func routes(network *fleet.Network, nic *fleet.NIC, handedOut bool) []*yaml.Node {
	var list []*yaml.Node
	if nic.Primary && !handedOut && network.Gateway.IsValid() {
		everywhere := "0.0.0.0/0"
		if network.Gateway.Is6() {
			everywhere = "::/0"
		}
		list = append(list, flow(mapping("to", everywhere, "via", network.Gateway.String())))
	}
	for _, route := range nic.Routes {
		list = append(list, flow(mapping("to", route.To.String(), "via", route.Via.String())))
	}
	return list
}

func nameServers(network *fleet.Network) *yaml.Node {
	var servers []string
	for _, server := range network.DNS {
		servers = append(servers, server.String())
	}
	return mapping("addresses", flow(node(servers)), "search", flow(node(network.Search)))
}
