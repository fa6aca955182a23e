package cloudinit

import (
	"fmt"
	"net/netip"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
)

// NetworkConfig renders the network interfaces in version 2 of cloud-init's
// network configuration. Interfaces are told apart by hardware address and
// named eth0, eth1, … so that every renderer inside the guest agrees.
func NetworkConfig(f *fleet.Fleet, m *fleet.Machine) ([]byte, error) {
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
		if nic.DHCP() {
			pairs = append(pairs, "dhcp4", true)
		} else {
			pairs = append(pairs,
				"addresses", flow(node([]string{netip.PrefixFrom(nic.Address, network.Subnet.Bits()).String()})),
				"routes", defaultRoute(network, i == 0),
				"nameservers", nameServers(network),
			)
		}
		ethernets.Content = append(ethernets.Content, node(nic.Name), mapping(pairs...))
	}
	return encode("", mapping("version", 2, "ethernets", ethernets))
}

// quotedNode keeps six pairs of digits from being read as a number to base 60.
func quotedNode(text string) *yaml.Node {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text, Style: yaml.DoubleQuotedStyle}
}

// defaultRoute leads out through the first interface's gateway. The destination
// is written as a prefix, which older readers know too.
func defaultRoute(network *fleet.Network, first bool) []*yaml.Node {
	if !first || !network.Gateway.IsValid() {
		return nil
	}
	everywhere := "0.0.0.0/0"
	if network.Gateway.Is6() {
		everywhere = "::/0"
	}
	return []*yaml.Node{flow(mapping("to", everywhere, "via", network.Gateway.String()))}
}

func nameServers(network *fleet.Network) *yaml.Node {
	var servers []string
	for _, server := range network.DNS {
		servers = append(servers, server.String())
	}
	return mapping("addresses", flow(node(servers)), "search", flow(node(network.Search)))
}
