package cloudinit

import (
	"fmt"
	"net/netip"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
)

// NetworkConfig renders the network interfaces in version 2 of cloud-init's network
// configuration. Interfaces are identified by hardware address and named eth0, eth1,
// … so that every renderer inside the guest agrees; a single one whose address changes
// is the one whose name starts with e, as those of Ethernet do.
func NetworkConfig(f *fleet.Fleet, m *fleet.Machine, environment Environment) ([]byte, error) {
	ethernets := &yaml.Node{Kind: yaml.MappingNode}
	for i, nic := range m.NICs {
		network := f.Network(nic.Network)
		if network == nil {
			return nil, fmt.Errorf("network %q is not defined", nic.Network)
		}
		id := nic.Name
		pairs := []any{
			"match", mapping("macaddress", quotedNode(nic.HardwareAddress)),
			"set-name", fmt.Sprintf("eth%d", i),
		}
		if environment.NewAddresses && len(m.NICs) == 1 {
			// Readers that don't match by name take the id for one.
			id, pairs = "eth0", []any{"match", mapping("name", quotedNode("e*"))}
		}
		var addresses []string
		address := environment.addressOf(f, network, nic)
		handedOut := !address.IsValid() || environment.HandsOut != nil && environment.HandsOut(f, m, nic)
		if handedOut {
			pairs = append(pairs, protocolOf(network), true)
			pairs = append(pairs, overrides(network, nic)...)
			if !nic.Primary {
				// The start doesn't wait for an answer that the machine can do without.
				pairs = append(pairs, "optional", true)
			}
		} else {
			addresses = append(addresses, netip.PrefixFrom(address, subnetBits(network, address)).String())
		}
		for _, also := range nic.Also {
			addresses = append(addresses, also.String())
		}
		pairs = append(pairs, "addresses", flow(node(addresses)), "routes", routes(network, nic, handedOut))
		pairs = append(pairs, "nameservers", environment.nameServers(f, m, nic, network, handedOut))
		ethernets.Content = append(ethernets.Content, node(id), mapping(pairs...))
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

// protocolOf returns the key that asks for an address: of the family of the subnet.
func protocolOf(network *fleet.Network) string {
	if network.Subnet.IsValid() && network.Subnet.Addr().Is6() {
		return "dhcp6"
	}
	return "dhcp4"
}

// lastResort is the metric of a way out that the primary interface's precedes.
const lastResort = 1000

// overrides says what not to take from DHCP: another interface's way out, and name
// servers where the definition has its own. Readers that know only the metric of
// overrides (_add_dhcp_overrides in network_state.py) prefer the primary's way by that.
func overrides(network *fleet.Network, nic *fleet.NIC) []any {
	var changes []any
	if !nic.Primary {
		changes = append(changes, "use-routes", false, "route-metric", lastResort)
	}
	if HasOwnDNS(network) {
		changes = append(changes, "use-dns", false)
	}
	if len(changes) == 0 {
		return nil
	}
	return []any{protocolOf(network) + "-overrides", flow(mapping(changes...))}
}

// HasOwnDNS reports whether the definition names the network's name servers.
func HasOwnDNS(network *fleet.Network) bool { return len(network.DNS) > 0 && !network.IsDefault("dns") }

// nameServers renders the network's name servers. Those that weren't chosen come by
// DHCP.
func (e Environment) nameServers(f *fleet.Fleet, m *fleet.Machine, nic *fleet.NIC, network *fleet.Network,
	handedOut bool) *yaml.Node {
	var servers []string
	if len(network.DNS) == 0 && !handedOut && e.NameServer != nil {
		if server := e.NameServer(network); server.IsValid() {
			servers = append(servers, server.String())
		}
	}
	if !handedOut || HasOwnDNS(network) {
		for _, server := range network.DNS {
			servers = append(servers, server.String())
		}
	}
	search := network.Search
	if len(search) == 0 && e.SearchDomain != nil {
		if domain := e.SearchDomain(f, m, nic); domain != "" {
			search = []string{domain}
		}
	}
	return mapping("addresses", flow(node(servers)), "search", flow(node(search)))
}
