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
	t := &template{job: job, machines: job.Machines(), resources: ordered.Of(), outputs: ordered.Of(),
		ids: map[string]string{}}
	for _, id := range []string{"Network", "Gateway", "GatewayAttachment", "RouteTable", "RouteOut"} {
		t.ids["\x00"+id] = id // a machine can have such a name
	}
	return t
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
	return ordered.List{ordered.Of("Key", "Name", "Value", t.job.Fleet.Deployment()+"-"+name)}
}

func (t *template) render() ([]render.File, error) {
	f := t.job.Fleet
	t.networks()
	t.firewalls()
	for _, key := range cloud.AdminKeys(f, t.machines) {
		t.add(t.id("key", key.Name), "AWS::EC2::KeyPair", ordered.Of("KeyName", f.Deployment()+"-"+key.Name,
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
	launch := t.launchTemplate(m)
	id := t.id(m.Name)
	instance := ordered.Of("ImageId", platform.ImageOf(f, m), "InstanceType", prepared.Size.Size.Name,
		"AvailabilityZone", t.zone(m),
		"LaunchTemplate", ordered.Of("LaunchTemplateId", ref(launch), "Version",
			attribute(launch, "LatestVersionNumber")))
	if _, key := cloud.AdminKey(f, m); key != nil {
		instance.Set("KeyName", ref(t.id("key", key.Name)))
	}
	instance.Set("IamInstanceProfile", m.Identity.Account)
	instance.Set("NetworkInterfaces", t.interfaces(m))
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
	// What runs at first boot needs the way out.
	t.add(id, "AWS::EC2::Instance", instance, "DependsOn", t.wayOut(m))
	t.outputs.Set(t.id(m.Name, "output", "address"), ordered.Of("Description", "Address of "+m.Name, "Value",
		attribute(id, "PrivateIp")))
	if m.PublicAddress {
		t.publicAddress(m, id)
	}
	return nil
}

// launchTemplate creates a launch template for the options that only it has: access
// to the metadata only with a token, interruptible capacity, and the throughput of
// volumes (AWS::EC2::LaunchTemplate Ebs; AWS::EC2::Instance Ebs has none).
func (t *template) launchTemplate(m *fleet.Machine) string {
	options := ordered.Of("MetadataOptions", ordered.Of("HttpTokens", "required", "HttpEndpoint", "enabled"))
	if m.Interruptible {
		market := ordered.Of("MarketType", "spot")
		if m.WhenStopped != fleet.RemoveStopped {
			// An instance that is taken away would be gone for good otherwise.
			market.Set("SpotOptions", ordered.Of("SpotInstanceType", "persistent", "InstanceInterruptionBehavior", "stop"))
		}
		options.Set("InstanceMarketOptions", market)
	}
	options.Set("BlockDeviceMappings", t.disks(m))
	id := t.id(m.Name, "launch")
	t.add(id, "AWS::EC2::LaunchTemplate", ordered.Of("LaunchTemplateName", t.job.Fleet.Deployment()+"-"+m.Name,
		"LaunchTemplateData", options))
	return id
}

func (t *template) disks(m *fleet.Machine) ordered.List {
	f := t.job.Fleet
	var mappings ordered.List
	for _, disk := range m.Disks {
		volume := ordered.Of("VolumeSize", platform.DiskSize(f, m, disk), "VolumeType", "gp3")
		if disk.Speed == fleet.Fast {
			volume.Set("Iops", operations(platform.DiskSize(f, m, disk)))
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

// operations returns how many operations a second a fast volume gets: 6,000, or as many
// as its size allows. A volume of the type gp3 has 3,000 in any case, and at most 500 for
// each GiB ("General Purpose SSD volumes").
func operations(gib int) int { return max(3000, min(6000, 500*gib)) }
