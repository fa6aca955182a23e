package language

import (
	"net/netip"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
)

var networkTable = newTable("a network", finishNetwork, func() []field[fleet.Network] {
	return []field[fleet.Network]{
		{
			key: "mode",
			doc: "How the network is tied to its surroundings: `nat` reaches out through the host, `host-only` " +
				"joins machines and host, `bridged` is the host's own network, `isolated` joins the machines " +
				"alone.",
			def: "nat", example: "nat",
			value: choice(func(n *fleet.Network) *fleet.NetworkMode { return &n.Mode }, fleet.NAT, fleet.HostOnly,
				fleet.Bridged, fleet.Isolated),
		},
		{
			key: "subnet", doc: "Its address range. A bridged network may leave it out.",
			example: "10.44.7.0/24",
			value:   subnet(func(n *fleet.Network) *netip.Prefix { return &n.Subnet }),
		},
		{
			key: "gateway", doc: "The router's address.",
			def: "the first address of the subnet; none if host-only or isolated", example: "10.44.7.1",
			value: address("10.44.7.1", func(n *fleet.Network) *netip.Addr { return &n.Gateway }),
		},
		{
			key: "dns", doc: "Name servers.",
			def: "the gateway", example: "[10.44.7.1]",
			value: addresses(func(n *fleet.Network) *[]netip.Addr { return &n.DNS }),
		},
		{
			key: "search", doc: "Domains that short names are looked up in.",
			example: "[skerry.example]",
			value:   words("domains", domain, func(n *fleet.Network) *[]string { return &n.Search }),
		},
		{
			key: "bridge", doc: "The host's bridge that a bridged network is on.",
			example: "br0",
			value:   text(bridgeName, func(n *fleet.Network) *string { return &n.Bridge }),
		},
		{
			key: "dhcp_first", doc: "First address that DHCP hands out.",
			example: "10.44.7.100",
			value:   address("10.44.7.100", func(n *fleet.Network) *netip.Addr { return &n.DHCPFirst }),
		},
		{
			key: "dhcp_last", doc: "Last address that DHCP hands out.",
			example: "10.44.7.199",
			value:   address("10.44.7.199", func(n *fleet.Network) *netip.Addr { return &n.DHCPLast }),
		},
	}
})

// bridgeName is what Linux takes for a network device: at most 15 bytes.
var bridgeName = matching(`^[A-Za-z0-9][A-Za-z0-9._-]{0,14}$`,
	"is not the name of a network device: letters, digits and . _ - only, at most 15")

func finishNetwork(r *Reader, n *fleet.Network) {
	place := n.PlaceOf(fleet.Itself)
	if !n.Subnet.IsValid() && n.Mode != fleet.Bridged {
		r.AddAt(document.MissingKey, place, "a network needs the key \"subnet\"", "add `subnet: 10.44.7.0/24`")
	}
	if n.Bridge != "" && n.Mode != fleet.Bridged {
		r.AddAt(document.BadValue, n.PlaceOf("bridge"), "\"bridge\" is for bridged networks, and this one is not",
			"write mode: bridged, or remove the bridge")
	}
	if n.DHCPFirst.IsValid() != n.DHCPLast.IsValid() || n.DHCPFirst.IsValid() && n.DHCPLast.Less(n.DHCPFirst) {
		r.AddAt(document.BadValue, place, "the addresses that DHCP hands out have no first and last in order",
			"write both dhcp_first and dhcp_last, the lower one first")
	}
}

var nicTable = newTable[fleet.NIC]("a network interface", nil, func() []field[fleet.NIC] {
	return []field[fleet.NIC]{
		{
			key: "network", doc: "The network that it is on.",
			def: "the interface's name", example: "quay",
			value: word(label, func(n *fleet.NIC) *string { return &n.Network }),
		},
		{
			key: "model", doc: "The hardware that the machine sees.",
			def: "virtio", example: "e1000",
			value: choice(func(n *fleet.NIC) *fleet.NICModel { return &n.Model }, fleet.VirtIONIC, fleet.E1000),
		},
		{
			key: "address", doc: "Its fixed address.",
			def: "from the network by DHCP", example: "10.44.7.20",
			value: address("10.44.7.20", func(n *fleet.NIC) *netip.Addr { return &n.Address }),
		},
		{
			key: "hardware_address", doc: "Its hardware address.",
			def: "derived from the names", example: "\"02:00:5e:10:00:01\"",
			value: text(hardwareAddress, func(n *fleet.NIC) *string { return &n.HardwareAddress }),
		},
		{
			key: "also", doc: "Additional addresses with their prefix length.",
			example: "[10.44.8.20/24]",
			value:   prefixes(func(n *fleet.NIC) *[]netip.Prefix { return &n.Also }),
		},
		{
			key: "routes", doc: "Routes to other networks.",
			example: "[{to: 10.45.0.0/16, via: 10.44.7.2}]",
			value:   listed(routeTable, func(n *fleet.NIC) *[]*fleet.Route { return &n.Routes }),
		},
		{
			key: "primary", doc: "The interface with the default route.",
			def: "true for the first", example: "true",
			value: boolean(func(n *fleet.NIC) *bool { return &n.Primary }),
		},
	}
})

var hardwareAddress = matching(`^[0-9a-f][02468ace](:[0-9a-f]{2}){5}$`,
	"must be six pairs of lower-case hexadecimal digits with colons, the second digit even, "+
		"such as 02:00:5e:10:00:01")

var routeTable = newTable[fleet.Route]("a route", nil, func() []field[fleet.Route] {
	return []field[fleet.Route]{
		{
			key: "to", doc: "The network that the route leads to.",
			example: "10.45.0.0/16", required: true,
			value: subnet(func(x *fleet.Route) *netip.Prefix { return &x.To }),
		},
		{
			key: "via", doc: "The router, on the interface's network.",
			example: "10.44.7.2", required: true,
			value: address("10.44.7.2", func(x *fleet.Route) *netip.Addr { return &x.Via }),
		},
	}
})

var portTable = newTable[fleet.Port]("a port", nil, func() []field[fleet.Port] {
	return []field[fleet.Port]{
		{
			key: "host", doc: "Port on the host, or `auto` for one that is derived from the names and stays the same.",
			def: "auto", example: "8080",
			value: hostPort(func(p *fleet.Port) *int { return &p.Host }, func(p *fleet.Port) *bool { return &p.Auto }),
		},
		{
			key: "machine", doc: "Port inside the machine.",
			example: "80", required: true,
			value: integer(1, 65535, "a number such as 80", func(p *fleet.Port) *int { return &p.Machine }),
		},
		{
			key: "protocol", doc: "Transport protocol.",
			def: "tcp", example: "udp",
			value: choice(func(p *fleet.Port) *fleet.Protocol { return &p.Protocol }, fleet.TCP, fleet.UDP),
		},
		{
			key: "listen",
			doc: "Address of the host to listen on; 0.0.0.0 accepts connections from the whole network.",
			def: "127.0.0.1", example: "127.0.0.1",
			value: address("127.0.0.1", func(p *fleet.Port) *netip.Addr { return &p.Listen }),
		},
	}
})
