package cloudformation

import (
	"fmt"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/ordered"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/render"
)

// template is put together resource by resource.
type template struct {
	job                *render.Job
	machines           []*fleet.Machine
	resources, outputs *ordered.Map
	ids                map[string]string
	secret, hasGateway bool
}

func newTemplate(job *render.Job) *template {
	return &template{job: job, machines: job.Machines(), resources: ordered.Of(), outputs: ordered.Of(),
		ids: map[string]string{}}
}

// id returns the logical name of a resource, which may have letters and digits
// only: the capitalised words of the names, and a number if two names collide.
func (t *template) id(names ...string) string {
	key := strings.Join(names, "\x00")
	if id := t.ids[key]; id != "" {
		return id
	}
	var id strings.Builder
	for _, word := range strings.FieldsFunc(strings.Join(names, "-"),
		func(r rune) bool { return r == '-' || r == '.' || r == '_' }) {
		id.WriteString(strings.ToUpper(word[:1]) + word[1:])
	}
	unique := id.String()
	for taken, n := t.taken(unique), 2; taken; n++ {
		unique = fmt.Sprintf("%sN%d", id.String(), n)
		taken = t.taken(unique)
	}
	t.ids[key] = unique
	return unique
}

func (t *template) taken(id string) bool {
	for _, other := range t.ids {
		if other == id {
			return true
		}
	}
	return false
}

func (t *template) add(id, resourceType string, properties *ordered.Map, more ...any) {
	r := ordered.Of("Type", resourceType)
	for i := 0; i+1 < len(more); i += 2 {
		r.Set(more[i].(string), more[i+1])
	}
	r.Set("Properties", properties)
	t.resources.Set(id, r)
}

func ref(id string) *ordered.Map { return ordered.Of("Ref", id) }

func attribute(id, name string) *ordered.Map {
	return ordered.Of("Fn::GetAtt", ordered.List{id, name})
}

// tags returns the tags that name a resource.
func (t *template) tags(name string) ordered.List {
	return ordered.List{ordered.Of("Key", "Name", "Value", t.job.Fleet.Name+"-"+name)}
}

func (t *template) render() ([]render.File, error) {
	f := t.job.Fleet
	t.networks()
	for _, set := range cloud.Sets(f, t.machines) {
		properties := ordered.Of("GroupDescription", set.About, "VpcId", t.network(), "SecurityGroupIngress",
			ingress(set), "Tags", t.tags(set.Name))
		t.add(t.id("firewall", set.Name), "AWS::EC2::SecurityGroup", properties)
	}
	for _, key := range cloud.AdminKeys(f, t.machines) {
		t.add(t.id("key", key.Name), "AWS::EC2::KeyPair", ordered.Of("KeyName", f.Name+"-"+key.Name,
			"PublicKeyMaterial", cloud.KeyText(key)))
	}
	prepared, err := platform.Prepare(t.job, t.machines)
	if err != nil {
		return nil, err
	}
	for i, m := range t.machines {
		if err := t.machine(m, prepared[i]); err != nil {
			return nil, fmt.Errorf("machine %s: %w", m.Name, err)
		}
	}
	data, err := ordered.Of("AWSTemplateFormatVersion", "2010-09-09", "Description", f.About, "Resources", t.resources,
		"Outputs", t.outputs).JSON()
	if err != nil {
		return nil, err
	}
	return []render.File{{Name: f.Name + ".cloudformation.json", Data: data, Mode: cloud.Mode(t.secret)}}, nil
}

// ownNetwork reports whether the stack creates its network.
func (t *template) ownNetwork() bool { return platform.Value(t.job.Fleet, nil, "network") == "" }

// network returns the VPC that firewalls belong to, or nil for that of the subnet
// that the definition names.
func (t *template) network() any {
	if t.ownNetwork() {
		return ref("Network")
	}
	if vpc := platform.Value(t.job.Fleet, nil, "vpc"); vpc != "" {
		return vpc
	}
	return nil
}

// networks creates one VPC, with an address range and a subnet for each network.
func (t *template) networks() {
	used := cloud.UsedNetworks(t.job.Fleet, t.machines)
	if !t.ownNetwork() || len(used) == 0 {
		return
	}
	t.add("Network", "AWS::EC2::VPC", ordered.Of("CidrBlock", used[0].Subnet.String(),
		"EnableDnsSupport", true, "EnableDnsHostnames", true, "Tags", t.tags("network")))
	for i, network := range used {
		subnet := t.id("subnet", network.Name)
		var after any
		if i > 0 {
			after = t.id("range", network.Name)
			t.add(t.id("range", network.Name), "AWS::EC2::VPCCidrBlock",
				ordered.Of("VpcId", ref("Network"), "CidrBlock", network.Subnet.String()))
		}
		properties := ordered.Of("VpcId", ref("Network"), "CidrBlock", network.Subnet.String(),
			"AvailabilityZone", t.zone(nil), "Tags", t.tags(network.Name))
		t.add(subnet, "AWS::EC2::Subnet", properties, "DependsOn", after)
		if cloud.LeadsOut(network) {
			t.routeOut(subnet, network)
		}
	}
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

// zone returns a machine's zone, or the region's first: disks, subnets and machines
// have to be in the same one.
func (t *template) zone(m *fleet.Machine) any {
	if zone := platform.Value(t.job.Fleet, m, "zone"); zone != "" {
		return zone
	}
	return ordered.Of("Fn::Select", ordered.List{0, ordered.Of("Fn::GetAZs", ordered.Keep(""))})
}

// ingress renders the openings of a set (AWS::EC2::SecurityGroup Ingress).
// Protocol -1 stands for everything, and ports -1 for all types of ICMP.
func ingress(set cloud.Set) ordered.List {
	var list ordered.List
	for _, opening := range set.Allow {
		for _, from := range opening.From {
			entry := ordered.Of()
			switch opening.Protocol {
			case fleet.AnyProtocol:
				entry.Set("IpProtocol", "-1")
			case fleet.ICMP:
				entry.Set("IpProtocol", cloud.ByFamily(from, "icmp", "icmpv6"))
				entry.Set("FromPort", -1)
				entry.Set("ToPort", -1)
			default:
				entry.Set("IpProtocol", string(opening.Protocol))
				entry.Set("FromPort", opening.First)
				entry.Set("ToPort", opening.Last)
			}
			entry.Set(cloud.ByFamily(from, "CidrIp", "CidrIpv6"), from)
			list = append(list, entry)
		}
	}
	return list
}

func (t *template) machine(m *fleet.Machine, prepared cloud.Prepared) error {
	f, payload := t.job.Fleet, prepared.Payload
	t.secret = t.secret || payload.Secret
	interfaces := t.interfaces(m)
	launch := t.launchTemplate(m)
	instance := ordered.Of("ImageId", platform.ImageOf(f, m), "InstanceType", prepared.Size.Size.Name,
		"AvailabilityZone", t.zone(m),
		"LaunchTemplate", ordered.Of("LaunchTemplateId", ref(launch), "Version",
			attribute(launch, "LatestVersionNumber")))
	if _, key := cloud.AdminKey(f, m); key != nil {
		instance.Set("KeyName", ref(t.id("key", key.Name)))
	}
	instance.Set("IamInstanceProfile", m.Identity.Account)
	instance.Set("NetworkInterfaces", interfaces)
	instance.Set("BlockDeviceMappings", t.disks(m))
	if m.WhenStopped == fleet.RemoveStopped {
		instance.Set("InstanceInitiatedShutdownBehavior", "terminate")
	} else {
		instance.Set("InstanceInitiatedShutdownBehavior", "stop")
	}
	if payload.Compressed {
		instance.Set("UserData", payload.Base64())
	} else {
		instance.Set("UserData", ordered.Of("Fn::Base64", string(payload.Text)))
	}
	tags := t.tags(m.Name)
	for _, label := range platform.LabelsOf(m) {
		tags = append(tags, ordered.Of("Key", label.Key, "Value", ordered.Keep(label.Value)))
	}
	instance.Set("Tags", tags)
	id := t.id(m.Name)
	t.add(id, "AWS::EC2::Instance", instance)
	t.outputs.Set(id+"Address", ordered.Of("Description", "Address of "+m.Name, "Value", attribute(id, "PrivateIp")))
	if m.PublicAddress {
		t.publicAddress(m, id)
	}
	return nil
}

// interfaces creates the network interfaces of a machine and returns references to
// them.
func (t *template) interfaces(m *fleet.Machine) ordered.List {
	f := t.job.Fleet
	var groups, interfaces ordered.List
	for _, name := range cloud.SetsOf(f, m) {
		groups = append(groups, attribute(t.id("firewall", name), "GroupId"))
	}
	for i, nic := range m.NICs {
		var subnet any = platform.Value(f, m, "network")
		address := ""
		if t.ownNetwork() {
			subnet = ref(t.id("subnet", nic.Network))
		}
		if nic.Address.IsValid() {
			address = nic.Address.String()
		}
		id := t.id(m.Name, "interface", nic.Name)
		t.add(id, "AWS::EC2::NetworkInterface", ordered.Of("SubnetId", subnet, "PrivateIpAddress", address, "GroupSet",
			groups,
			"Tags", t.tags(m.Name+"-"+nic.Name)))
		interfaces = append(interfaces, ordered.Of("DeviceIndex", fmt.Sprint(i), "NetworkInterfaceId", ref(id)))
	}
	return interfaces
}

// launchTemplate creates a launch template for the options that only it has: access
// to the metadata only with a token, and interruptible capacity.
func (t *template) launchTemplate(m *fleet.Machine) string {
	options := ordered.Of("MetadataOptions", ordered.Of("HttpTokens", "required", "HttpEndpoint", "enabled"))
	if m.Interruptible {
		options.Set("InstanceMarketOptions", ordered.Of("MarketType", "spot"))
	}
	id := t.id(m.Name, "launch")
	t.add(id, "AWS::EC2::LaunchTemplate", ordered.Of("LaunchTemplateName", t.job.Fleet.Name+"-"+m.Name,
		"LaunchTemplateData", options))
	return id
}

func (t *template) disks(m *fleet.Machine) ordered.List {
	f := t.job.Fleet
	var mappings ordered.List
	for _, disk := range m.Disks {
		volume := ordered.Of("VolumeSize", platform.DiskSize(f, m, disk), "VolumeType", "gp3")
		if disk.Speed == fleet.Fast {
			volume.Set("Iops", 6000)
			volume.Set("Throughput", 250)
		}
		volume.Set("DeleteOnTermination", !disk.Keep)
		name := rootDevice(f, m)
		if !disk.IsRoot() {
			name = deviceName(m, disk)
		}
		mappings = append(mappings, ordered.Of("DeviceName", name, "Ebs", volume))
	}
	return mappings
}

func (t *template) publicAddress(m *fleet.Machine, id string) {
	address := t.id(m.Name, "public-address")
	var after any
	if t.ownNetwork() {
		after = "GatewayAttachment"
	}
	t.add(address, "AWS::EC2::EIP", ordered.Of("Domain", "vpc", "Tags", t.tags(m.Name)), "DependsOn", after)
	t.add(t.id(m.Name, "public-address-association"), "AWS::EC2::EIPAssociation", ordered.Of(
		"AllocationId", attribute(address, "AllocationId"), "NetworkInterfaceId",
		ref(t.id(m.Name, "interface", cloud.Primary(m).Name))))
	t.outputs.Set(id+"PublicAddress", ordered.Of("Description", "Public address of "+m.Name, "Value", ref(address)))
}
