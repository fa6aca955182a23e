package cloudformation

import (
	"fmt"
	"net/netip"
	"slices"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/ordered"
	"stavren.example/stavren/internal/targets/cloud"
)

// isOwn reports whether a machine is on the network that the stack creates, and not on a
// subnet that the definition names.
func isOwn(f *fleet.Fleet, m *fleet.Machine) bool { return platform.Value(f, m, "network") == "" }

// own returns the machines that are on the stack's own network.
func (t *template) own() []*fleet.Machine {
	var machines []*fleet.Machine
	for _, m := range t.machines {
		if isOwn(t.job.Fleet, m) {
			machines = append(machines, m)
		}
	}
	return machines
}

// vpcOf returns the VPC that a machine is in. One that the definition doesn't name
// is a placeholder: without any, a group would land in the account's default VPC.
func vpcOf(f *fleet.Fleet, m *fleet.Machine) any {
	if isOwn(f, m) {
		return ref("Network")
	}
	return platform.ValueOrPlaceholder(f, m, "vpc")
}

// groupID returns the logical name of a firewall set in the VPC of a machine.
func (t *template) groupID(set string, m *fleet.Machine) string {
	if isOwn(t.job.Fleet, m) {
		return t.id("firewall", set)
	}
	return t.id("firewall", set, fmt.Sprint(vpcOf(t.job.Fleet, m)))
}

// firewalls creates the sets that machines need, each in every VPC in which it is needed.
func (t *template) firewalls() {
	f := t.job.Fleet
	made := map[string]bool{}
	for _, set := range cloud.Sets(f, t.machines) {
		for _, m := range t.machines {
			if !slices.Contains(cloud.SetsOf(f, m), set.Name) || made[t.groupID(set.Name, m)] {
				continue
			}
			made[t.groupID(set.Name, m)] = true
			t.add(t.groupID(set.Name, m), "AWS::EC2::SecurityGroup", ordered.Of("GroupDescription", set.About, "VpcId",
				vpcOf(f, m), "SecurityGroupIngress", ingress(set), "Tags", t.tags(set.Name)))
		}
	}
}

// networks creates one VPC, with a subnet for each network.
func (t *template) networks() {
	f := t.job.Fleet
	used := cloud.UsedNetworks(f, t.own())
	if len(used) == 0 {
		return
	}
	covering, one := cover(used)
	t.add("Network", "AWS::EC2::VPC", ordered.Of("CidrBlock", covering.String(),
		"EnableDnsSupport", true, "EnableDnsHostnames", true, "Tags", t.tags("network")))
	for i, network := range used {
		subnet := t.id("subnet", network.Name)
		var after any
		if i > 0 && !one {
			after = t.id("range", network.Name)
			t.add(t.id("range", network.Name), "AWS::EC2::VPCCidrBlock",
				ordered.Of("VpcId", ref("Network"), "CidrBlock", network.Subnet.String()))
		}
		properties := ordered.Of("VpcId", ref("Network"), "CidrBlock", network.Subnet.String(),
			"AvailabilityZone", t.zoneOfSubnet(network), "Tags", t.tags(network.Name))
		t.add(subnet, "AWS::EC2::Subnet", properties, "DependsOn", after)
		if cloud.LeadsOut(network) {
			t.routeOut(subnet, network)
		}
	}
}

// cover returns one range that has all subnets, if the platform takes one so wide. It
// is better than a range for each, since a VPC takes no second one from another block
// for private use ("VPC CIDR blocks"). Otherwise it returns the first subnet.
func cover(networks []*fleet.Network) (covering netip.Prefix, one bool) {
	covering = networks[0].Subnet.Masked()
	for _, network := range networks {
		for !covering.Contains(network.Subnet.Addr()) || covering.Bits() > network.Subnet.Bits() {
			if covering.Bits() <= shortestPrefix {
				return networks[0].Subnet, false
			}
			covering = netip.PrefixFrom(covering.Addr(), covering.Bits()-1).Masked()
		}
	}
	return covering, true
}

// routeOut gives a subnet a route to the world, through the network's one gateway.
func (t *template) routeOut(subnet string, network *fleet.Network) {
	if !t.hasGateway {
		t.hasGateway = true
		t.add("Gateway", "AWS::EC2::InternetGateway", ordered.Of("Tags", t.tags("gateway")))
		t.add("GatewayAttachment", "AWS::EC2::VPCGatewayAttachment",
			ordered.Of("VpcId", ref("Network"), "InternetGatewayId", ref("Gateway")))
		t.add("RouteTable", "AWS::EC2::RouteTable", ordered.Of("VpcId", ref("Network"), "Tags", t.tags("routes")))
		t.add("RouteOut", "AWS::EC2::Route", ordered.Of("RouteTableId", ref("RouteTable"),
			"DestinationCidrBlock", "0.0.0.0/0", "GatewayId", ref("Gateway")), "DependsOn", "GatewayAttachment")
	}
	t.add(t.id("routes", network.Name), "AWS::EC2::SubnetRouteTableAssociation",
		ordered.Of("SubnetId", ref(subnet), "RouteTableId", ref("RouteTable")))
}

// wayOut returns the resources that make a machine's way out, or nil.
func (t *template) wayOut(m *fleet.Machine) ordered.List {
	network := t.job.Fleet.Network(cloud.Primary(m).Network)
	if !isOwn(t.job.Fleet, m) || network == nil || !cloud.LeadsOut(network) {
		return nil
	}
	return ordered.List{"RouteOut", t.id("routes", network.Name)}
}

// zone returns a machine's zone, or the region's first: disks, subnets and machines
// have to be in the same one.
func (t *template) zone(m *fleet.Machine) any {
	if zone := platform.Value(t.job.Fleet, m, "zone"); zone != "" {
		return zone
	}
	return ordered.Of("Fn::Select", ordered.List{0, ordered.Of("Fn::GetAZs", ordered.Keep(""))})
}

// zoneOfSubnet returns the zone of the machines on a network. Needs reports one whose
// machines are in several.
func (t *template) zoneOfSubnet(network *fleet.Network) any {
	for _, m := range t.own() {
		if on(m, network) {
			return t.zone(m)
		}
	}
	return t.zone(nil)
}

func on(m *fleet.Machine, network *fleet.Network) bool {
	return slices.ContainsFunc(m.NICs, func(nic *fleet.NIC) bool { return nic.Network == network.Name })
}

// interfaces renders the interfaces of a machine, the primary one first. A single one is
// part of the machine, so that a replacement can be there beside it; several have
// resources of their own, since a public address needs the id of one.
func (t *template) interfaces(m *fleet.Machine) ordered.List {
	nics := slices.Clone(m.NICs)
	slices.SortStableFunc(nics, func(a, b *fleet.NIC) int {
		switch primary := cloud.Primary(m); {
		case a == primary && b != primary:
			return -1
		case b == primary && a != primary:
			return 1
		}
		return 0
	})
	if len(nics) == 1 {
		single := t.networkInterface(m, nics[0])
		single.Set("DeviceIndex", "0")
		single.Set("DeleteOnTermination", true)
		return ordered.List{single}
	}
	var interfaces ordered.List
	for i, nic := range nics {
		id := t.id(m.Name, "interface", nic.Name)
		properties := t.networkInterface(m, nic)
		properties.Set("Tags", t.tags(m.Name+"-"+nic.Name))
		t.add(id, "AWS::EC2::NetworkInterface", properties)
		interfaces = append(interfaces, ordered.Of("DeviceIndex", fmt.Sprint(i), "NetworkInterfaceId", ref(id)))
	}
	return interfaces
}

// networkInterface renders what an interface has in both places. On a subnet that the
// definition names, only the primary interface's address can be one of that subnet.
func (t *template) networkInterface(m *fleet.Machine, nic *fleet.NIC) *ordered.Map {
	f := t.job.Fleet
	var groups ordered.List
	for _, name := range cloud.SetsOf(f, m) {
		groups = append(groups, attribute(t.groupID(name, m), "GroupId"))
	}
	var subnet any = platform.Value(f, m, "network")
	if isOwn(f, m) {
		subnet = ref(t.id("subnet", nic.Network))
	}
	address := ""
	if nic.Address.IsValid() && (isOwn(f, m) || nic == cloud.Primary(m)) {
		address = nic.Address.String()
	}
	return ordered.Of("SubnetId", subnet, "PrivateIpAddress", address, "GroupSet", groups)
}

func (t *template) publicAddress(m *fleet.Machine, id string) {
	address := t.id(m.Name, "public-address")
	var after any
	if isOwn(t.job.Fleet, m) {
		after = "GatewayAttachment"
	}
	t.add(address, "AWS::EC2::EIP", ordered.Of("Domain", "vpc", "Tags", t.tags(m.Name)), "DependsOn", after)
	association := ordered.Of("AllocationId", attribute(address, "AllocationId"))
	if len(m.NICs) == 1 {
		association.Set("InstanceId", ref(id))
	} else {
		association.Set("NetworkInterfaceId", ref(t.id(m.Name, "interface", cloud.Primary(m).Name)))
	}
	t.add(t.id(m.Name, "public-address-association"), "AWS::EC2::EIPAssociation", association)
	t.outputs.Set(t.id(m.Name, "output", "public-address"), ordered.Of("Description", "Public address of "+m.Name, "Value",
		ref(address)))
}
