package gce

import (
	"fmt"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
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
	var tags []string
	for _, set := range cloud.SetsOf(f, m) {
		tags = append(tags, tagOf(f, set))
	}
	tags = append(tags, tagOf(f, everyMachine))
	labels := ordered.Of()
	for _, label := range platform.LabelsOf(m) {
		labels.Set(label.Key, ordered.Keep(label.Value))
	}
	body := ordered.Of("name", platform.NameOf(m.Name), "description", m.About,
		"machineType", inZone(f, m, "machineTypes", prepared.Size.Size.Name), "disks", disks(f, m),
		"networkInterfaces", ordered.List{networkInterface(f, m)}, "tags", ordered.Of("items", tags), "labels", labels,
		"metadata", ordered.Of("items", metadata(f, m, prepared.Payload)))
	options(m, body)
	data, err := body.JSON()
	if err != nil {
		return nil, err
	}
	return []render.File{{Name: m.Name + "/instance.json", Data: data, Mode: cloud.Mode(prepared.Payload.Secret)}}, nil
}

// inZone returns the relative URL of a resource in a machine's zone.
func inZone(f *fleet.Fleet, m *fleet.Machine, collection, name string) string {
	return "zones/" + platform.ValueOrPlaceholder(f, m, "zone") + "/" + collection + "/" + name
}

func disks(f *fleet.Fleet, m *fleet.Machine) ordered.List {
	var list ordered.List
	for _, disk := range m.Disks {
		class := "pd-balanced"
		if disk.Speed == fleet.Fast {
			class = "pd-ssd"
		}
		start := ordered.Of("diskSizeGb", fmt.Sprint(platform.DiskSize(f, m, disk)), "diskType",
			inZone(f, m, "diskTypes", class))
		if disk.IsRoot() {
			start.Set("sourceImage", platform.ImageOf(f, m))
		} else {
			start.Set("diskName", platform.NameOf(m.Name+"-"+disk.Name))
		}
		list = append(list, ordered.Of("boot", disk.IsRoot(), "autoDelete", !disk.Keep, "deviceName", disk.Name,
			"mode", "READ_WRITE", "type", "PERSISTENT", "initializeParams", start))
	}
	return list
}

// defaultNetwork is what a project has from its start on.
const defaultNetwork = "global/networks/default"

// networkOf returns the network of a machine, or of the fleet if m is nil.
func networkOf(f *fleet.Fleet, m *fleet.Machine) string {
	if network := platform.Value(f, m, "network"); network != "" {
		return network
	}
	return defaultNetwork
}

// networkInterface renders the primary interface. The interfaces of a machine have
// to be on different networks here, so it stands for all that lead nowhere else.
func networkInterface(f *fleet.Fleet, m *fleet.Machine) *ordered.Map {
	subnetwork := platform.Value(f, m, "subnetwork")
	network := networkOf(f, m)
	if subnetwork != "" && network == defaultNetwork {
		network = "" // a subnet belongs to one, and both together have to agree
	}
	nic := ordered.Of("network", network, "subnetwork", subnetwork)
	if address := cloud.Primary(m).Address; address.IsValid() && subnetwork != "" {
		nic.Set("networkIP", address.String())
	}
	if m.PublicAddress {
		nic.Set("accessConfigs", ordered.List{ordered.Of("type", "ONE_TO_ONE_NAT", "name", "External NAT",
			"networkTier", "PREMIUM")})
	}
	return nic
}

// options adds what a machine has only if the definition asks for it.
func options(m *fleet.Machine, body *ordered.Map) {
	if m.Identity.Account != "" {
		scopes := scopesOf(m)
		body.Set("serviceAccounts", ordered.List{ordered.Of("email", m.Identity.Account, "scopes", scopes)})
	}
	if m.Interruptible {
		action := "STOP"
		if m.WhenStopped == fleet.RemoveStopped {
			action = "DELETE"
		}
		body.Set("scheduling", ordered.Of("provisioningModel", "SPOT", "instanceTerminationAction", action,
			"onHostMaintenance", "TERMINATE", "automaticRestart", false))
	}
	if m.Firmware.SecureBoot || m.Firmware.TPM {
		body.Set("shieldedInstanceConfig", ordered.Of("enableSecureBoot", m.Firmware.SecureBoot, "enableVtpm",
			m.Firmware.TPM))
	}
}

// metadata holds user data and keys, the latter as lines of USER:KEY.
func metadata(f *fleet.Fleet, m *fleet.Machine, payload cloud.Payload) ordered.List {
	item := func(key, value string) *ordered.Map { return ordered.Of("key", key, "value", value) }
	var items ordered.List
	if catalog.Of(f, m).Family.Class() == catalog.ClassWindows {
		// The platform's agent runs it at every start ("Using startup scripts on Windows VMs").
		return ordered.List{item("windows-startup-script-ps1", string(payload.Text))}
	}
	if payload.Compressed {
		items = append(items, item("user-data", payload.Base64()), item("user-data-encoding", "base64"))
	} else {
		items = append(items, item("user-data", string(payload.Text)))
	}
	// The image's agent makes administrators of all who are listed.
	var keys []string
	for _, user := range m.Users {
		for _, name := range user.Keys {
			if key := f.Key(name); key != nil && user.Admin != fleet.NoAdmin {
				keys = append(keys, user.Name+":"+cloud.KeyText(key))
			}
		}
	}
	if len(keys) > 0 {
		items = append(items, item("ssh-keys", strings.Join(keys, "\n")))
	}
	return append(items, item("block-project-ssh-keys", "true"))
}
