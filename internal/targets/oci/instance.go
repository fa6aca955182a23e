package oci

import (
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/ordered"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/render"
)

func instance(job *render.Job, m *fleet.Machine) ([]render.File, error) {
	f := job.Fleet
	prepared, err := platform.PrepareOne(job, m)
	if err != nil {
		return nil, err
	}
	size, root := prepared.Size, m.Disks[0]
	compartment := platform.ValueOrPlaceholder(f, m, "compartment")
	body := ordered.Of("compartmentId", compartment, "availabilityDomain", platform.ValueOrPlaceholder(f, m, "zone"),
		"displayName", platform.NameOf(m.Name), "shape", size.Size.Name)
	if size.Size.Flexible() {
		processors := size.CPUs
		if size.Size.Arch == "amd64" {
			processors /= 2
		}
		body.Set("shapeConfig", ordered.Of("ocpus", processors, "memoryInGBs", int(size.Memory/fleet.GiB)))
	}
	body.Set("sourceDetails", ordered.Of("sourceType", "image", "imageId", platform.ImageOf(f, m),
		"bootVolumeSizeInGBs", platform.DiskSize(f, m, root), "bootVolumeVpusPerGB", performanceUnits(root)))
	body.Set("createVnicDetails", networkInterface(f, m))
	body.Set("launchVolumeAttachments", volumes(f, m, compartment))
	body.Set("metadata", ordered.Of("ssh_authorized_keys", strings.Join(keys(f, m), "\n"), "user_data",
		prepared.Payload.Base64()))
	body.Set("instanceOptions", ordered.Of("areLegacyImdsEndpointsDisabled", true))
	if m.Interruptible {
		action := ordered.Of("type", "TERMINATE", "preserveBootVolume", root.Keep)
		body.Set("preemptibleInstanceConfig", ordered.Of("preemptionAction", action))
	}
	tags := ordered.Of("fleet", f.Name)
	for _, label := range platform.LabelsOf(m) {
		tags.Set(label.Key, ordered.Keep(label.Value))
	}
	body.Set("freeformTags", tags)
	data, err := body.JSON()
	if err != nil {
		return nil, err
	}
	return []render.File{{Name: m.Name + "/instance.json", Data: data, Mode: cloud.Mode(prepared.Payload.Secret)}}, nil
}

func networkInterface(f *fleet.Fleet, m *fleet.Machine) *ordered.Map {
	address := ""
	if primary := cloud.Primary(m); primary.Address.IsValid() {
		address = primary.Address.String()
	}
	var groups []string
	for _, set := range cloud.SetsOf(f, m) {
		if set == cloud.Closed {
			continue
		}
		id := platform.Value(f, m, "group_"+set)
		if id == "" {
			id = groupPlaceholder(set)
		}
		groups = append(groups, id)
	}
	return ordered.Of("subnetId", platform.ValueOrPlaceholder(f, m, "network"), "assignPublicIp", m.PublicAddress,
		"privateIp", address, "hostnameLabel", m.HostName, "nsgIds", groups)
}

func volumes(f *fleet.Fleet, m *fleet.Machine, compartment string) ordered.List {
	var list ordered.List
	for _, disk := range m.Disks {
		if disk.IsRoot() {
			continue
		}
		name := m.Name + "-" + disk.Name
		list = append(list, ordered.Of("type", "paravirtualized", "displayName", name, "device", device(m, disk),
			"launchCreateVolumeDetails", ordered.Of("volumeCreationType", "ATTRIBUTES", "compartmentId", compartment,
				"displayName", name, "sizeInGBs", platform.DiskSize(f, m, disk), "vpusPerGB", performanceUnits(disk))))
	}
	return list
}

// keys returns the keys of all users, each once.
func keys(f *fleet.Fleet, m *fleet.Machine) []string {
	var keys []string
	for _, user := range m.Users {
		for _, name := range user.Keys {
			if key := f.Key(name); key != nil && !slices.Contains(keys, cloud.KeyText(key)) {
				keys = append(keys, cloud.KeyText(key))
			}
		}
	}
	return keys
}

// performanceUnits returns volume performance units per GB: 10 is balanced, 20 is
// higher.
func performanceUnits(disk *fleet.Disk) int {
	if disk.Speed == fleet.Fast {
		return 20
	}
	return 10
}
