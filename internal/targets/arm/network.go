package arm

import (
	"fmt"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/ordered"
	"stavren.example/stavren/internal/targets/cloud"
)

// isOwn reports whether a machine is on the network that the template creates, and not on
// a subnet that the definition names.
func isOwn(f *fleet.Fleet, m *fleet.Machine) bool { return platform.Value(f, m, "network") == "" }

// nameOf returns the name of an interface.
func (t *template) nameOf(m *fleet.Machine, nic *fleet.NIC) string {
	return t.names.Name("interface", longestName, platform.NameOf(m.Name), nic.Name)
}

// staysInside reports whether nothing that leaves an interface may reach the world.
func staysInside(f *fleet.Fleet, m *fleet.Machine, nic *fleet.NIC) bool {
	network := f.Network(nic.Network)
	return isOwn(f, m) && network != nil && !cloud.LeadsOut(network)
}

// groupOf returns the name of the security group of an interface: that of the machine's
// sets, and one of its own for networks that don't lead out.
func groupOf(f *fleet.Fleet, m *fleet.Machine, nic *fleet.NIC) string {
	name := "firewall-" + strings.Join(cloud.SetsOf(f, m), "-and-")
	if staysInside(f, m, nic) {
		name += "-inside"
	}
	return cloud.Shorten(name, longestName)
}

func (t *template) groups() {
	made := map[string]bool{}
	for _, m := range t.machines {
		for _, nic := range m.NICs {
			if name := groupOf(t.job.Fleet, m, nic); !made[name] {
				made[name] = true
				t.group(name, m, nic)
			}
		}
	}
}

// group creates a security group. Its rules have priorities from 100 up, in the
// order of the definition. The last one refuses everything else.
func (t *template) group(name string, m *fleet.Machine, nic *fleet.NIC) {
	f := t.job.Fleet
	var rules ordered.List
	names := cloud.SetsOf(f, m)
	for _, set := range cloud.Sets(f, []*fleet.Machine{m}) {
		if !slices.Contains(names, set.Name) {
			continue
		}
		for _, opening := range set.Allow {
			for _, from := range bySource(opening.From) {
				rule := cloud.Shorten(fmt.Sprintf("%s-%d", set.Name, len(rules)+1), longestName)
				rules = append(rules, securityRule(rule, 100+10*len(rules), opening, from))
			}
		}
	}
	// The platform's default rules let machines on one network connect to each other;
	// a definition's firewalls don't.
	rules = append(rules, refuse("refuse-the-rest", "Inbound", "*"))
	if staysInside(f, m, nic) {
		// Without a rule, the platform lets every machine out.
		rules = append(rules, refuse("stay-inside", "Outbound", "Internet"))
	}
	t.add(groupKind, networkVersion, name, nil, "properties", ordered.Of("securityRules", rules))
}

func refuse(name, direction, destination string) *ordered.Map {
	return ordered.Of("name", name, "properties", ordered.Of("priority", 4096,
		"direction", direction, "access", "Deny", "protocol", "*", "sourcePortRange", "*",
		"destinationAddressPrefix", destination, "destinationPortRange", "*", "sourceAddressPrefix", "*"))
}

// bySource splits sources: a rule has those of one family of addresses (SecurityRule in
// the reference). Everyone is one source of both.
func bySource(from []string) [][]string {
	if slices.Equal(from, cloud.Everywhere()) {
		return [][]string{{"*"}}
	}
	var four, six []string
	for _, prefix := range from {
		if strings.Contains(prefix, ":") {
			six = append(six, prefix)
		} else {
			four = append(four, prefix)
		}
	}
	return slices.DeleteFunc([][]string{four, six}, func(list []string) bool { return len(list) == 0 })
}

func securityRule(name string, priority int, opening cloud.Opening, from []string) *ordered.Map {
	ports := "*"
	switch {
	case opening.First > 0 && opening.First == opening.Last:
		ports = fmt.Sprint(opening.First)
	case opening.First > 0:
		ports = fmt.Sprintf("%d-%d", opening.First, opening.Last)
	}
	protocol := "*"
	switch opening.Protocol {
	case fleet.TCP:
		protocol = "Tcp"
	case fleet.UDP:
		protocol = "Udp"
	case fleet.ICMP:
		protocol = "Icmp"
	}
	properties := ordered.Of("priority", priority, "direction", "Inbound", "access", "Allow", "protocol", protocol,
		"sourcePortRange", "*", "destinationAddressPrefix", "*", "destinationPortRange", ports)
	if len(from) == 1 {
		properties.Set("sourceAddressPrefix", from[0])
	} else {
		properties.Set("sourceAddressPrefixes", from)
	}
	return ordered.Of("name", name, "properties", properties)
}

// network creates one virtual network, with a subnet for each network of the fleet.
func (t *template) network() {
	f := t.job.Fleet
	own := slices.DeleteFunc(slices.Clone(t.machines), func(m *fleet.Machine) bool { return !isOwn(f, m) })
	used := cloud.UsedNetworks(f, own)
	if len(used) == 0 {
		return
	}
	var prefixes []string
	var subnets ordered.List
	for _, network := range used {
		prefixes = append(prefixes, network.Subnet.String())
		subnets = append(subnets, ordered.Of("name", network.Name, "properties",
			ordered.Of("addressPrefix", network.Subnet.String())))
	}
	t.add(networkKind, networkVersion, f.Name, nil, "properties",
		ordered.Of("addressSpace", ordered.Of("addressPrefixes", prefixes), "subnets", subnets))
}

func (t *template) networkInterface(m *fleet.Machine, nic *fleet.NIC, zones []string) {
	f := t.job.Fleet
	name := platform.NameOf(m.Name)
	group := groupOf(f, m, nic)
	after := ordered.List{id(groupKind, group)}
	var subnet any = ordered.Of("id", literal(platform.Value(f, m, "network")))
	if isOwn(f, m) {
		after = append(after, id(networkKind, f.Name))
		subnet = idOf(subnetKind, f.Name, nic.Network)
	}
	config := ordered.Of("subnet", subnet)
	// On a subnet that the definition names, only the primary interface's address can be
	// one of that subnet.
	if nic.Address.IsValid() && (isOwn(f, m) || nic == cloud.Primary(m)) {
		config.Set("privateIPAllocationMethod", "Static")
		config.Set("privateIPAddress", nic.Address.String())
	} else {
		config.Set("privateIPAllocationMethod", "Dynamic")
	}
	if m.PublicAddress && nic == cloud.Primary(m) {
		t.add(addressKind, networkVersion, name, nil, "zones", zones, "sku", ordered.Of("name", "Standard"),
			"properties", ordered.Of("publicIPAllocationMethod", "Static"))
		after = append(after, id(addressKind, name))
		config.Set("publicIPAddress", idOf(addressKind, name))
	}
	t.add(interfaceKind, networkVersion, t.nameOf(m, nic), after, "properties", ordered.Of(
		"networkSecurityGroup", idOf(groupKind, group),
		"ipConfigurations", ordered.List{ordered.Of("name", nic.Name, "properties", config)}))
}
