// Package oci renders machines as bodies of Oracle Cloud Infrastructure's
// LaunchInstance (docs.oracle.com, "Core Services API", LaunchInstanceDetails).
package oci

import (
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/ordered"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// Target renders a body a machine.
var Target = render.Target{
	Name:      "oci",
	Summary:   "bodies for Oracle Cloud Infrastructure's interface, one a machine",
	Writes:    []string{"MACHINE/instance.json"},
	Fates:     fates(),
	Overrides: kind.Overrides,
	Needs:     needs,
	Machine:   instance,
	Steps: func(job *render.Job, machines []*fleet.Machine) []render.Step {
		var list []render.Step
		for _, set := range cloud.Sets(job.Fleet, machines) {
			if len(set.Rules) > 0 {
				list = append(list, render.Step{About: "make the security group " + set.Name + " and its rules, and put its identifier for " + groupPlace(set.Name),
					Command: fmt.Sprintf("oci network nsg create --compartment-id %s --vcn-id %s --display-name %s-%s && oci network nsg rules add --nsg-id $NSG_ID --security-rules '%s'",
						kind.Place(job.Fleet, nil, "compartment"), kind.Place(job.Fleet, nil, "vcn"), job.Fleet.Name, set.Name, rulesJSON(set))})
			}
		}
		for _, m := range machines {
			region := kind.Value(job.Fleet, m, "region")
			if region == "" {
				region = "$REGION"
			}
			list = append(list, render.Step{About: "make " + m.Name, Command: fmt.Sprintf("oci compute instance launch --from-json file://%s/instance.json", m.Name),
				Request: fmt.Sprintf("POST https://iaas.%s.oraclecloud.com/20160918/instances/\nContent-Type: application/json\nAuthorization: signed with your own key (HTTP signatures)\n\n%s/instance.json", region, m.Name)})
		}
		return list
	},
}

var kind = cloud.New("oci", cloudinit.Platform{
	// Devices are asked for by name in the body (consistent device paths).
	DiskDevice: func(disk *fleet.Disk) string { return "/dev/stavren/" + disk.Name },
	FindDisk: func(m *fleet.Machine, disk *fleet.Disk) string {
		return "readlink -f " + device(m, disk)
	},
},
	cloud.Place{Key: "compartment", What: "the compartment that machines belong to"},
	cloud.Place{Key: "zone", What: "the availability domain that machines run in"},
	cloud.Place{Key: "network", What: "the subnet that machines are put on"},
)

// device is the path of a data disk, from /dev/oracleoci/oraclevdb on.
func device(m *fleet.Machine, disk *fleet.Disk) string {
	return "/dev/oracleoci/oraclevd" + string(rune('a'+slices.Index(m.Disks, disk)))
}

func fates() []render.Fate {
	return render.Merge(cloud.Fates(),
		render.Carry("machine.interruptible"),
		render.Adapt("the subnet that platforms names, for the first interface; others are attached afterwards", "network.mode"),
		render.Adapt("the primary interface alone is in the body; others are attached afterwards", "nic.network", "nic.primary"),
		render.Adapt("groups whose identifiers are put into the body, made by the printed commands", "machine.firewall", "allowance.port", "allowance.from"),
		render.Adapt("the volume is kept when the machine goes", "disk.keep"),
		render.Adapt("more performance units a GB", "disk.speed"),
		render.Adapt("one of the platform's processors is two of ours on amd64", "resources.cpus"),
		render.LeaveOut("subnets are made apart", "network.subnet"),
		render.LeaveOut("the region is part of the address that the body is sent to", "machine.region", "platform.region"),
		render.LeaveOut("machines are members of groups by the platform's own rules", "identity.account", "identity.scopes"),
		render.LeaveOut("a machine that stops itself stays", "machine.when_stopped"),
	)
}

// needs adds the identifiers of the security groups.
func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	findings := kind.Needs(f, m)
	for _, set := range cloud.SetsOf(f, m) {
		if set != cloud.Closed && kind.Value(f, m, "group_"+set) == "" {
			findings = append(findings, kind.LeftOpen(f, "group_"+set, "the identifier of the security group "+set, groupPlace(set)))
		}
	}
	return findings
}

// groupPlace is the placeholder of a security group's identifier.
func groupPlace(set string) string { return cloud.Placeholder + "group-" + set }

func instance(job *render.Job, m *fleet.Machine) ([]render.File, error) {
	f := job.Fleet
	size, _, err := kind.Size(job, m)
	if err != nil {
		return nil, err
	}
	payload, err := kind.UserData(job, m)
	if err != nil {
		return nil, err
	}
	primary := cloud.Primary(m)
	address := ""
	if primary.Address.IsValid() {
		address = primary.Address.String()
	}
	var groups []string
	for _, set := range cloud.SetsOf(f, m) {
		if set == cloud.Closed {
			continue
		}
		id := kind.Value(f, m, "group_"+set)
		if id == "" {
			id = groupPlace(set)
		}
		groups = append(groups, id)
	}
	vnic := ordered.Of("subnetId", kind.Place(f, m, "network"), "assignPublicIp", m.PublicAddress, "privateIp", address, "hostnameLabel", m.HostName, "nsgIds", groups)
	root := m.Disks[0]
	source := ordered.Of("sourceType", "image", "imageId", kind.ImageID(f, m), "bootVolumeSizeInGBs", kind.DiskSize(root), "bootVolumeVpusPerGB", units(root))
	var volumes ordered.List
	for _, disk := range m.Disks {
		if disk.IsRoot() {
			continue
		}
		volumes = append(volumes, ordered.Of("type", "paravirtualized", "displayName", m.Name+"-"+disk.Name, "device", device(m, disk),
			"launchCreateVolumeDetails", ordered.Of("volumeCreationType", "ATTRIBUTES", "compartmentId", kind.Place(f, m, "compartment"),
				"displayName", m.Name+"-"+disk.Name, "sizeInGBs", kind.DiskSize(disk), "vpusPerGB", units(disk))))
	}
	var keys []string
	for _, user := range m.Users {
		for _, name := range user.Keys {
			if key := f.Key(name); key != nil && !strings.Contains(strings.Join(keys, "\n"), cloud.KeyText(key)) {
				keys = append(keys, cloud.KeyText(key))
			}
		}
	}
	tags := ordered.Of("fleet", f.Name)
	for _, label := range kind.Labels(m) {
		tags.Set(label.Key, ordered.Keep(label.Value))
	}
	body := ordered.Of("compartmentId", kind.Place(f, m, "compartment"), "availabilityDomain", kind.Place(f, m, "zone"), "displayName", kind.NameOf(m.Name), "shape", size.Size.Name)
	if size.Size.Flexible() {
		processors := size.CPUs
		if size.Size.Arch == "amd64" {
			processors /= 2
		}
		body.Set("shapeConfig", ordered.Of("ocpus", processors, "memoryInGBs", int(size.Memory/fleet.GiB)))
	}
	body.Set("sourceDetails", source)
	body.Set("createVnicDetails", vnic)
	body.Set("launchVolumeAttachments", volumes)
	body.Set("metadata", ordered.Of("ssh_authorized_keys", strings.Join(keys, "\n"), "user_data", base64.StdEncoding.EncodeToString(payload.Text)))
	body.Set("instanceOptions", ordered.Of("areLegacyImdsEndpointsDisabled", true))
	if m.Interruptible {
		body.Set("preemptibleInstanceConfig", ordered.Of("preemptionAction", ordered.Of("type", "TERMINATE", "preserveBootVolume", root.Keep)))
	}
	body.Set("freeformTags", tags)
	data, err := body.JSON()
	if err != nil {
		return nil, err
	}
	return []render.File{{Name: m.Name + "/instance.json", Data: data, Mode: cloud.Mode(payload.Secret)}}, nil
}

// units are volume performance units a GB: 10 is balanced, 20 is higher.
func units(disk *fleet.Disk) int {
	if disk.Speed == fleet.Fast {
		return 20
	}
	return 10
}

// rulesJSON renders a set for `oci network nsg rules add` (AddSecurityRuleDetails),
// where protocols have their IANA numbers.
func rulesJSON(set cloud.Set) string {
	var list ordered.List
	for _, rule := range set.Rules {
		for _, from := range rule.From {
			number := map[fleet.Protocol]string{fleet.TCP: "6", fleet.UDP: "17", fleet.ICMP: cloud.Family(from, "1", "58"), fleet.AnyProtocol: "all"}[rule.Protocol]
			entry := ordered.Of("direction", "INGRESS", "protocol", number, "source", from, "sourceType", "CIDR_BLOCK")
			if rule.First > 0 {
				entry.Set(string(rule.Protocol)+"Options", ordered.Of("destinationPortRange", ordered.Of("min", rule.First, "max", rule.Last)))
			}
			list = append(list, entry)
		}
	}
	data, err := ordered.Of("rules", list).MarshalJSON()
	if err != nil {
		return "" // it holds texts and numbers only
	}
	return strings.TrimSuffix(strings.TrimPrefix(string(data), `{"rules":`), "}")
}
