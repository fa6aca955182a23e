package oci

import (
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
	body.Set("metadata", ordered.Of("ssh_authorized_keys", keys(f, m), "user_data",
		prepared.Payload.Base64()))
	body.Set("platformConfig", platformConfig(m, size.Size.Name))
	body.Set("instanceOptions", ordered.Of("areLegacyImdsEndpointsDisabled", true))
	if m.Interruptible {
		action := ordered.Of("type", "TERMINATE", "preserveBootVolume", root.Keep)
		body.Set("preemptibleInstanceConfig", ordered.Of("preemptionAction", action))
	}
	tags := ordered.Of("fleet", f.Deployment())
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

// keys returns the keys of the administrators, one a line: those who have one of them log
// in as the image's own administrator.
func keys(f *fleet.Fleet, m *fleet.Machine) string {
	var lines []string
	for _, key := range cloud.KeysOfAdmins(f, m) {
		lines = append(lines, cloud.KeyText(key))
	}
	return strings.Join(lines, "\n")
}

// platformConfig returns the settings of secure boot and a TPM, whose type goes by the
// maker of the shape's processors (LaunchInstancePlatformConfig), or nil.
func platformConfig(m *fleet.Machine, shape string) *ordered.Map {
	kind := platformKind(shape)
	if kind == "" || !m.Firmware.SecureBoot && !m.Firmware.TPM {
		return nil
	}
	return ordered.Of("type", kind, "isSecureBootEnabled", m.Firmware.SecureBoot,
		"isTrustedPlatformModuleEnabled", m.Firmware.TPM, "isMeasuredBootEnabled", m.Firmware.TPM)
}

func platformKind(shape string) string {
	switch {
	case strings.HasPrefix(shape, "VM.Standard.E"):
		return "AMD_VM"
	case strings.HasPrefix(shape, "VM.Standard3"), strings.HasPrefix(shape, "VM.Optimized3"):
		return "INTEL_VM"
	}
	return ""
}

// performanceUnits returns volume performance units per GB: 10 is balanced, 20 is
// higher.
func performanceUnits(disk *fleet.Disk) int {
	if disk.Speed == fleet.Fast {
		return 20
	}
	return 10
}
