package heat

import (
	"fmt"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/ordered"
	"stavren.example/stavren/internal/sizing"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/render"
)

// template is put together resource by resource.
type template struct {
	job                *render.Job
	machines           []*fleet.Machine
	resources, outputs *ordered.Map
	secret             bool
}

func newTemplate(job *render.Job) *template {
	return &template{job: job, machines: job.Machines(), resources: ordered.Of(), outputs: ordered.Of()}
}

func resource(kind string, properties *ordered.Map) *ordered.Map {
	// The type needs no quotes: every reader takes it as text.
	return ordered.Of("type", &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: kind}, "properties", properties)
}

func get(name string) *ordered.Map { return ordered.Of("get_resource", name) }

func (t *template) render() ([]render.File, error) {
	f := t.job.Fleet
	t.firewalls()
	t.keys()
	t.networks()
	prepared, err := platform.Prepare(t.job, t.machines)
	if err != nil {
		return nil, err
	}
	for i, m := range t.machines {
		if err := t.machine(m, prepared[i]); err != nil {
			return nil, fmt.Errorf("machine %s: %w", m.Name, err)
		}
	}
	document := ordered.Of("heat_template_version", "2018-08-31", "description", f.About,
		"resources", t.resources, "outputs", t.outputs)
	data, err := yaml.Dump(document.Node(), yaml.WithIndent(2), yaml.WithLineWidth(-1))
	if err != nil {
		return nil, fmt.Errorf("encoding YAML: %w", err)
	}
	return []render.File{{Name: f.Name + ".heat.yaml", Data: data, Mode: cloud.Mode(t.secret)}}, nil
}

func (t *template) firewalls() {
	f := t.job.Fleet
	for _, set := range cloud.Sets(f, t.machines) {
		t.resources.Set("firewall_"+set.Name, resource("OS::Neutron::SecurityGroup", ordered.Of(
			"name", f.Deployment()+"-"+set.Name, "description", set.About, "rules", rules(set))))
	}
}

func rules(set cloud.Set) ordered.List {
	var list ordered.List
	for _, opening := range set.Allow {
		for _, from := range opening.From {
			entry := ordered.Of("direction", "ingress", "ethertype", cloud.ByFamily(from, "IPv4", "IPv6"))
			switch opening.Protocol {
			case fleet.AnyProtocol:
			case fleet.ICMP:
				entry.Set("protocol", cloud.ByFamily(from, "icmp", "ipv6-icmp"))
			default:
				entry.Set("protocol", string(opening.Protocol))
				entry.Set("port_range_min", opening.First)
				entry.Set("port_range_max", opening.Last)
			}
			entry.Set("remote_ip_prefix", from)
			list = append(list, entry)
		}
	}
	return list
}

func (t *template) keys() {
	f := t.job.Fleet
	for _, key := range cloud.AdminKeys(f, t.machines) {
		t.resources.Set("key_"+key.Name, resource("OS::Nova::KeyPair", ordered.Of(
			"name", f.Deployment()+"-"+key.Name, "public_key", cloud.KeyText(key))))
	}
}

// networks creates the networks that don't lead out. The others are the
// platform's own.
func (t *template) networks() {
	f := t.job.Fleet
	for _, network := range cloud.UsedNetworks(f, t.machines) {
		if cloud.LeadsOut(network) {
			continue
		}
		t.resources.Set("network_"+network.Name, resource("OS::Neutron::Net",
			ordered.Of("name", f.Deployment()+"-"+network.Name)))
		if network.Subnet.IsValid() {
			t.resources.Set("subnet_"+network.Name, resource("OS::Neutron::Subnet", ordered.Of(
				"name", f.Deployment()+"-"+network.Name, "network", get("network_"+network.Name),
				"cidr", network.Subnet.String(), "ip_version", version(network), "gateway_ip", ordered.Keep(""))))
		}
	}
}

// version returns the version of a subnet's addresses, which is 4 unless said.
func version(network *fleet.Network) any {
	if network.Subnet.Addr().Is6() {
		return 6
	}
	return nil
}

func (t *template) machine(m *fleet.Machine, prepared cloud.Prepared) error {
	f := t.job.Fleet
	t.secret = t.secret || prepared.Payload.Secret
	ports, err := t.ports(m)
	if err != nil {
		return err
	}
	volumes := t.volumes(m)
	server := ordered.Of("name", platform.NameOf(m.Name), "flavor", prepared.Size.Size.Name)
	t.rootDisk(m, prepared.Size.Size, server)
	if _, key := cloud.AdminKey(f, m); key != nil {
		server.Set("key_name", get("key_"+key.Name))
	}
	server.Set("networks", ports)
	server.Set("availability_zone", platform.Value(f, m, "zone"))
	labels := ordered.Of()
	for _, label := range platform.LabelsOf(m) {
		labels.Set(label.Key, ordered.Keep(label.Value))
	}
	server.Set("metadata", labels)
	server.Set("user_data_format", "RAW")
	var userData any = string(prepared.Payload.Text)
	if volumes.Len() > 0 {
		userData = ordered.Of("str_replace", ordered.Of("template", string(prepared.Payload.Text), "params", volumes))
	}
	server.Set("user_data", userData)
	t.resources.Set(m.Name, resource("OS::Nova::Server", server))
	t.attachments(m)
	t.addresses(m)
	return nil
}

// ports creates the network interfaces of a machine and returns references to them.
func (t *template) ports(m *fleet.Machine) (ordered.List, error) {
	f := t.job.Fleet
	var groups, ports ordered.List
	for _, name := range cloud.SetsOf(f, m) {
		groups = append(groups, get("firewall_"+name))
	}
	for _, nic := range m.NICs {
		network := f.Network(nic.Network)
		if network == nil {
			return nil, fmt.Errorf("network %q is not defined", nic.Network)
		}
		var on any = get("network_" + network.Name)
		address := ordered.Of()
		// The platform's own network has a subnet of its own, and takes an address only if
		// the setting subnet says that it is the definition's.
		own := !cloud.LeadsOut(network)
		if nic.Address.IsValid() && (own || platform.Value(f, m, "subnet") != "") {
			address.Set("ip_address", nic.Address.String())
		}
		if !own && address.Len() > 0 {
			address.Set("subnet", platform.Value(f, m, "subnet"))
		}
		if !own {
			on = platform.ValueOrPlaceholder(f, m, "network")
		} else if network.Subnet.IsValid() {
			address.Set("subnet", get("subnet_"+network.Name))
		}
		properties := ordered.Of("name", f.Deployment()+"-"+m.Name+"-"+nic.Name, "network", on)
		if address.Len() > 0 {
			properties.Set("fixed_ips", ordered.List{address})
		}
		var also ordered.List
		for _, prefix := range nic.Also {
			also = append(also, ordered.Of("ip_address", prefix.Addr().String()))
		}
		properties.Set("allowed_address_pairs", also)
		if !nic.IsDefault("hardware_address") && nic.Knows("hardware_address") {
			properties.Set("mac_address", nic.HardwareAddress)
		}
		properties.Set("security_groups", groups)
		t.resources.Set(portName(m, nic), resource("OS::Neutron::Port", properties))
		ports = append(ports, ordered.Of("port", get(portName(m, nic))))
	}
	return ports, nil
}

func portName(m *fleet.Machine, nic *fleet.NIC) string { return m.Name + "_port_" + nic.Name }

func volumeName(m *fleet.Machine, disk *fleet.Disk) string { return m.Name + "_disk_" + disk.Name }

// volumes creates the data disks of a machine. It returns the volumes that the
// user data refers to, by their markers.
func (t *template) volumes(m *fleet.Machine) *ordered.Map {
	f := t.job.Fleet
	used := ordered.Of()
	isWindows := catalog.Of(f, m).Family.Class() == catalog.ClassWindows
	for _, disk := range m.Disks {
		if disk.IsRoot() {
			continue
		}
		class := ""
		if disk.Speed == fleet.Fast {
			class = platform.Value(f, m, "fast_volume_type")
		}
		volume := resource("OS::Cinder::Volume", ordered.Of("name", f.Deployment()+"-"+m.Name+"-"+disk.Name,
			"size", platform.DiskSize(f, m, disk), "volume_type", class))
		if disk.Keep {
			volume.Set("deletion_policy", "Retain")
		}
		t.resources.Set(volumeName(m, disk), volume)
		// Only first-boot data that formats the disk has the marker.
		if disk.FileSystem != "" && !isWindows {
			used.Set(marker(disk), get(volumeName(m, disk)))
		}
	}
	return used
}

// rootDisk boots a machine from the disk of its size. If that is too small, or
// would go with the machine although the disk is kept, it gets a volume.
func (t *template) rootDisk(m *fleet.Machine, size sizing.Size, server *ordered.Map) {
	f, root := t.job.Fleet, m.Disks[0]
	image := platform.ImageOf(f, m)
	if size.Disk >= root.Size && !root.Keep {
		server.Set("image", image)
		return
	}
	server.Set("block_device_mapping_v2", ordered.List{ordered.Of("image", image, "boot_index", 0,
		"volume_size", platform.DiskSize(f, m, root), "delete_on_termination", !root.Keep)})
}

func (t *template) attachments(m *fleet.Machine) {
	for _, disk := range m.Disks {
		if !disk.IsRoot() {
			t.resources.Set(m.Name+"_attach_"+disk.Name, resource("OS::Cinder::VolumeAttachment", ordered.Of(
				"instance_uuid", get(m.Name), "volume_id", get(volumeName(m, disk)))))
		}
	}
}

func (t *template) addresses(m *fleet.Machine) {
	attribute := func(resource, name string) *ordered.Map {
		return ordered.Of("get_attr", ordered.List{resource, name})
	}
	t.outputs.Set(m.Name+"_address", ordered.Of("description", "Address of "+m.Name, "value",
		ordered.Of("get_attr", ordered.List{portName(m, cloud.Primary(m)), "fixed_ips", 0, "ip_address"})))
	if !m.PublicAddress {
		return
	}
	name := m.Name + "_public_address"
	t.resources.Set(name, resource("OS::Neutron::FloatingIP", ordered.Of(
		"floating_network", platform.ValueOrPlaceholder(t.job.Fleet, m, "address_pool"), "port_id",
		get(portName(m, cloud.Primary(m))))))
	t.outputs.Set(name, ordered.Of("description", "Public address of "+m.Name, "value",
		attribute(name, "floating_ip_address")))
}
