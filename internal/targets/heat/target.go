// Package heat renders a fleet as a template of OpenStack's Heat. Resource types
// and properties are those of the Heat Orchestration Template guide, version
// 2018-08-31 (openstack.org, "OpenStack Resource Types").
package heat

import (
	"fmt"
	"slices"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/ordered"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// Target renders one template a fleet.
var Target = render.Target{
	Name:      "heat",
	Summary:   "one template for OpenStack Heat",
	Writes:    []string{"FLEET.heat.yaml"},
	Fates:     fates(),
	Overrides: kind.Overrides,
	Needs:     kind.Needs,
	Fleet: func(job *render.Job) ([]render.File, error) {
		return template(job)
	},
	Steps: func(job *render.Job, _ []*fleet.Machine) []render.Step {
		name := job.Fleet.Name
		return []render.Step{{
			About:   "make the stack",
			Command: fmt.Sprintf("openstack stack create --wait --template %s.heat.yaml %s", name, name),
			Request: "POST $OS_HEAT_URL/v1/$OS_PROJECT_ID/stacks\nX-Auth-Token: $OS_TOKEN\nContent-Type: application/json\n\n{\"stack_name\": \"" + name + "\", \"template\": the content of " + name + ".heat.yaml as one text}",
		}}
	},
}

var kind = cloud.New("heat", cloudinit.Platform{
	DiskDevice: func(disk *fleet.Disk) string { return "/dev/stavren/" + disk.Name },
	// A volume is attached after the machine has started, under the first twenty
	// characters of an identifier that the template fills in.
	FindDisk: func(_ *fleet.Machine, disk *fleet.Disk) string {
		return fmt.Sprintf("d=/dev/disk/by-id/virtio-$(echo %s | cut -c1-20); i=0; until [ -e $d ] || [ $i -ge 60 ]; do i=$((i+1)); sleep 2; done; readlink -f $d", marker(disk))
	},
	GuestTools: "qemu-guest-agent",
},
	cloud.Place{Key: "network", What: "the network that machines are put on", Needed: func(f *fleet.Fleet, m *fleet.Machine) bool {
		return slices.ContainsFunc(m.NICs, func(nic *fleet.NIC) bool {
			network := f.Network(nic.Network)
			return network != nil && cloud.LeadsOut(network)
		})
	}},
	cloud.Place{Key: "address_pool", What: "the pool that public addresses come from", Needed: func(_ *fleet.Fleet, m *fleet.Machine) bool { return m.PublicAddress }},
)

func fates() []render.Fate {
	return render.Merge(cloud.Fates(),
		render.Carry("platform.address_pool", "size.cpus", "size.memory", "size.disk", "machine.zone", "nic.hardware_address", "nic.also", "fleet.about", "first_boot.guest_tools"),
		render.Adapt("the platform's own network for those that lead out; the others are made with their subnet", "network.mode", "network.subnet"),
		render.Adapt("a volume with the policy Retain", "disk.keep"),
		render.Adapt("a volume of the type that the setting fast_volume_type names, else the platform's usual one", "disk.speed"),
		render.LeaveOut("a template is made in the region that it is sent to", "machine.region", "platform.region"),
		render.LeaveOut("Heat has no word for it", "machine.interruptible", "machine.when_stopped", "identity.account", "identity.scopes"),
	)
}

// marker stands in user data for a volume's identifier.
func marker(disk *fleet.Disk) string { return "@volume-" + disk.Name + "@" }

func resource(kind string, properties *ordered.Map) *ordered.Map {
	// Written bare, as everybody writes it: no reader takes it for anything else.
	return ordered.Of("type", &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: kind}, "properties", properties)
}

func get(name string) *ordered.Map { return ordered.Of("get_resource", name) }

func template(job *render.Job) ([]render.File, error) {
	f := job.Fleet
	machines := job.Machines()
	resources, outputs := ordered.Of(), ordered.Of()
	for _, set := range cloud.Sets(f, machines) {
		resources.Set("firewall_"+set.Name, resource("OS::Neutron::SecurityGroup", ordered.Of(
			"name", f.Name+"-"+set.Name, "description", set.About, "rules", rules(set))))
	}
	for _, key := range cloud.UsedKeys(f, machines) {
		resources.Set("key_"+key.Name, resource("OS::Nova::KeyPair", ordered.Of("name", f.Name+"-"+key.Name, "public_key", cloud.KeyText(key))))
	}
	for _, network := range cloud.UsedNetworks(f, machines) {
		if cloud.LeadsOut(network) {
			continue
		}
		resources.Set("network_"+network.Name, resource("OS::Neutron::Net", ordered.Of("name", f.Name+"-"+network.Name)))
		if network.Subnet.IsValid() {
			resources.Set("subnet_"+network.Name, resource("OS::Neutron::Subnet", ordered.Of(
				"name", f.Name+"-"+network.Name, "network", get("network_"+network.Name), "cidr", network.Subnet.String(), "gateway_ip", ordered.Keep(""))))
		}
	}
	secret := false
	prepared, err := kind.Prepare(job, machines)
	if err != nil {
		return nil, err
	}
	for i, m := range machines {
		if err := machine(f, m, prepared[i], resources, outputs); err != nil {
			return nil, fmt.Errorf("machine %s: %w", m.Name, err)
		}
		secret = secret || prepared[i].Payload.Secret
	}
	document := ordered.Of("heat_template_version", "2018-08-31", "description", f.About, "resources", resources, "outputs", outputs)
	data, err := yaml.Dump(document.Node(), yaml.WithIndent(2), yaml.WithLineWidth(-1))
	if err != nil {
		return nil, fmt.Errorf("encoding YAML: %w", err)
	}
	return []render.File{{Name: f.Name + ".heat.yaml", Data: data, Mode: cloud.Mode(secret)}}, nil
}

func rules(set cloud.Set) ordered.List {
	var list ordered.List
	for _, rule := range set.Rules {
		for _, from := range rule.From {
			entry := ordered.Of("direction", "ingress", "ethertype", cloud.Family(from, "IPv4", "IPv6"))
			switch rule.Protocol {
			case fleet.AnyProtocol:
			case fleet.ICMP:
				entry.Set("protocol", cloud.Family(from, "icmp", "ipv6-icmp"))
			default:
				entry.Set("protocol", string(rule.Protocol))
				entry.Set("port_range_min", rule.First)
				entry.Set("port_range_max", rule.Last)
			}
			entry.Set("remote_ip_prefix", from)
			list = append(list, entry)
		}
	}
	return list
}

func machine(f *fleet.Fleet, m *fleet.Machine, prepared cloud.Prepared, resources, outputs *ordered.Map) error {
	size, payload := prepared.Size, prepared.Payload
	var sets, ports ordered.List
	for _, name := range cloud.SetsOf(f, m) {
		sets = append(sets, get("firewall_"+name))
	}
	for _, nic := range m.NICs {
		network := f.Network(nic.Network)
		if network == nil {
			return fmt.Errorf("network %q is not defined", nic.Network)
		}
		var on any = get("network_" + network.Name)
		address := ordered.Of()
		if nic.Address.IsValid() {
			address.Set("ip_address", nic.Address.String())
		}
		if cloud.LeadsOut(network) {
			on = kind.Place(f, m, "network")
		} else if network.Subnet.IsValid() {
			address.Set("subnet", get("subnet_"+network.Name))
		}
		properties := ordered.Of("name", f.Name+"-"+m.Name+"-"+nic.Name, "network", on)
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
		properties.Set("security_groups", sets)
		port := m.Name + "_port_" + nic.Name
		resources.Set(port, resource("OS::Neutron::Port", properties))
		ports = append(ports, ordered.Of("port", get(port)))
	}
	params := ordered.Of()
	for _, disk := range m.Disks {
		if disk.IsRoot() {
			continue
		}
		volume := m.Name + "_disk_" + disk.Name
		class := ""
		if disk.Speed == fleet.Fast {
			class = kind.Value(f, m, "fast_volume_type")
		}
		entry := resource("OS::Cinder::Volume", ordered.Of("name", f.Name+"-"+m.Name+"-"+disk.Name, "size", kind.DiskSize(disk), "volume_type", class))
		if disk.Keep {
			entry.Set("deletion_policy", "Retain")
		}
		resources.Set(volume, entry)
		if disk.FileSystem != "" {
			params.Set(marker(disk), get(volume))
		}
	}
	var userData any = string(payload.Text)
	if params.Len() > 0 {
		userData = ordered.Of("str_replace", ordered.Of("template", string(payload.Text), "params", params))
	}
	labels := ordered.Of()
	for _, label := range kind.Labels(m) {
		labels.Set(label.Key, ordered.Keep(label.Value))
	}
	server := ordered.Of("name", kind.NameOf(m.Name), "flavor", size.Size.Name)
	root := m.Disks[0]
	if size.Size.Disk >= root.Size && !root.Keep {
		server.Set("image", kind.ImageID(f, m))
	} else {
		// The size's own disk is too small, or goes with the machine.
		server.Set("block_device_mapping_v2", ordered.List{ordered.Of(
			"image", kind.ImageID(f, m), "boot_index", 0, "volume_size", kind.DiskSize(root), "delete_on_termination", !root.Keep)})
	}
	if _, key := cloud.AdminKey(f, m); key != nil {
		server.Set("key_name", get("key_"+key.Name))
	}
	server.Set("networks", ports)
	server.Set("availability_zone", kind.Value(f, m, "zone"))
	server.Set("metadata", labels)
	server.Set("user_data_format", "RAW")
	server.Set("user_data", userData)
	resources.Set(m.Name, resource("OS::Nova::Server", server))
	for _, disk := range m.Disks {
		if !disk.IsRoot() {
			resources.Set(m.Name+"_attach_"+disk.Name, resource("OS::Cinder::VolumeAttachment", ordered.Of(
				"instance_uuid", get(m.Name), "volume_id", get(m.Name+"_disk_"+disk.Name))))
		}
	}
	outputs.Set(m.Name+"_address", ordered.Of("description", "Address of "+m.Name, "value", ordered.Of("get_attr", ordered.List{m.Name, "first_address"})))
	if m.PublicAddress {
		resources.Set(m.Name+"_public_address", resource("OS::Neutron::FloatingIP", ordered.Of(
			"floating_network", kind.Place(f, m, "address_pool"), "port_id", get(m.Name+"_port_"+cloud.Primary(m).Name))))
		outputs.Set(m.Name+"_public_address", ordered.Of("description", "Public address of "+m.Name,
			"value", ordered.Of("get_attr", ordered.List{m.Name + "_public_address", "floating_ip_address"})))
	}
	return nil
}
