// Package gce renders machines as bodies of Google Compute Engine's REST
// interface: instances.insert and firewalls.insert (cloud.google.com, "Compute
// Engine API v1").
package gce

import (
	"fmt"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/ordered"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// Target renders a body a machine and one a firewall.
var Target = render.Target{
	Name:      "gce",
	Summary:   "bodies for Google Compute Engine's interface: machines and firewalls",
	Writes:    []string{"MACHINE/instance.json", "firewall-NAME.json"},
	Fates:     fates(),
	Overrides: kind.Overrides,
	Needs:     kind.Needs,
	Machine:   instance,
	Fleet: func(job *render.Job) ([]render.File, error) {
		var files []render.File
		for _, set := range cloud.Sets(job.Fleet, job.Machines()) {
			for i, body := range firewalls(job.Fleet, set) {
				data, err := body.JSON()
				if err != nil {
					return nil, err
				}
				files = append(files, render.File{Name: fileOf(set, i), Data: data, Mode: 0o644})
			}
		}
		return files, nil
	},
	Steps: steps,
}

var kind = cloud.New("gce", cloudinit.Platform{
	// The name of a device is said in the body, and linked by the image's agent.
	DiskDevice: func(disk *fleet.Disk) string { return "/dev/disk/by-id/google-" + disk.Name },
},
	cloud.Place{Key: "project", What: "the project that machines belong to"},
	cloud.Place{Key: "zone", What: "the zone that machines run in"},
)

func fates() []render.Fate {
	return render.Merge(cloud.Fates(),
		render.Carry("machine.about", "machine.interruptible", "machine.when_stopped", "identity.account", "identity.scopes", "disk.speed", "firmware.secure_boot", "firmware.tpm"),
		render.Adapt("labels are in lower case", "machine.labels"),
		render.Adapt("network tags tie machines to firewalls", "machine.firewall"),
		render.Adapt("the network and subnetwork that platforms names, or the project's default ones", "network.mode"),
		render.Adapt("the primary interface alone is in the body; others need networks of the project's own", "nic.network", "nic.primary"),
		render.Adapt("asked for where the setting subnetwork names the subnet", "nic.address"),
		render.Adapt("the disk is not deleted with the machine", "disk.keep"),
		render.Adapt("secure boot and a TPM make it a shielded machine, which starts by UEFI", "firmware.kind"),
		render.LeaveOut("subnets are made apart, and addresses come from them", "network.subnet"),
		render.LeaveOut("the zone is part of the address that the body is sent to", "machine.region", "platform.region"),
	)
}

// tagOf is the network tag of a set.
func tagOf(f *fleet.Fleet, set string) string { return kind.NameOf(f.Name + "-" + set) }

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
	zone := kind.Place(f, m, "zone")
	inZone := func(what, name string) string { return "zones/" + zone + "/" + what + "/" + name }
	var disks ordered.List
	for _, disk := range m.Disks {
		class := "pd-balanced"
		if disk.Speed == fleet.Fast {
			class = "pd-ssd"
		}
		start := ordered.Of("diskSizeGb", fmt.Sprint(kind.DiskSize(disk)), "diskType", inZone("diskTypes", class))
		if disk.IsRoot() {
			start.Set("sourceImage", kind.ImageID(f, m))
		} else {
			start.Set("diskName", kind.NameOf(m.Name+"-"+disk.Name))
		}
		disks = append(disks, ordered.Of("boot", disk.IsRoot(), "autoDelete", !disk.Keep, "deviceName", disk.Name, "mode", "READ_WRITE", "type", "PERSISTENT", "initializeParams", start))
	}
	network := kind.Value(f, m, "network")
	if network == "" {
		network = "global/networks/default"
	}
	// Interfaces of one machine have to be on networks of their own here, so the
	// primary one stands for all that lead nowhere else.
	primary := cloud.Primary(m)
	nic := ordered.Of("network", network, "subnetwork", kind.Value(f, m, "subnetwork"))
	if primary.Address.IsValid() && kind.Value(f, m, "subnetwork") != "" {
		nic.Set("networkIP", primary.Address.String())
	}
	if m.PublicAddress {
		nic.Set("accessConfigs", ordered.List{ordered.Of("type", "ONE_TO_ONE_NAT", "name", "External NAT", "networkTier", "PREMIUM")})
	}
	var tags []string
	for _, set := range cloud.SetsOf(f, m) {
		tags = append(tags, tagOf(f, set))
	}
	labels := ordered.Of()
	for _, label := range kind.Labels(m) {
		labels.Set(label.Key, ordered.Keep(label.Value))
	}
	body := ordered.Of("name", kind.NameOf(m.Name), "description", m.About, "machineType", inZone("machineTypes", size.Size.Name),
		"disks", disks, "networkInterfaces", ordered.List{nic}, "tags", ordered.Of("items", tags), "labels", labels,
		"metadata", ordered.Of("items", metadata(f, m, payload)))
	if m.Identity.Account != "" {
		scopes := m.Identity.Scopes
		if len(scopes) == 0 {
			scopes = []string{"https://www.googleapis.com/auth/cloud-platform"}
		}
		body.Set("serviceAccounts", ordered.List{ordered.Of("email", m.Identity.Account, "scopes", scopes)})
	}
	if m.Interruptible {
		body.Set("scheduling", ordered.Of("provisioningModel", "SPOT", "instanceTerminationAction", map[fleet.WhenStopped]string{
			fleet.KeepStopped: "STOP", fleet.RemoveStopped: "DELETE"}[m.WhenStopped], "onHostMaintenance", "TERMINATE", "automaticRestart", false))
	}
	if m.Firmware.SecureBoot || m.Firmware.TPM {
		body.Set("shieldedInstanceConfig", ordered.Of("enableSecureBoot", m.Firmware.SecureBoot, "enableVtpm", m.Firmware.TPM))
	}
	data, err := body.JSON()
	if err != nil {
		return nil, err
	}
	return []render.File{{Name: m.Name + "/instance.json", Data: data, Mode: cloud.Mode(payload.Secret)}}, nil
}

// metadata holds user data and keys, the latter as lines of USER:KEY.
func metadata(f *fleet.Fleet, m *fleet.Machine, payload cloud.Payload) ordered.List {
	item := func(key, value string) *ordered.Map { return ordered.Of("key", key, "value", value) }
	var items ordered.List
	if payload.Compressed {
		items = append(items, item("user-data", payload.Base64()), item("user-data-encoding", "base64"))
	} else {
		items = append(items, item("user-data", string(payload.Text)))
	}
	var keys []string
	for _, user := range m.Users {
		for _, name := range user.Keys {
			if key := f.Key(name); key != nil {
				keys = append(keys, user.Name+":"+cloud.KeyText(key))
			}
		}
	}
	if len(keys) > 0 {
		items = append(items, item("ssh-keys", strings.Join(keys, "\n")))
	}
	return append(items, item("block-project-ssh-keys", "true"))
}

// firewalls renders a set: a body for each family of addresses and each list of
// sources, since a body has one list of sources for all its ports. A closed set
// needs none: what nothing allows is refused.
func firewalls(f *fleet.Fleet, set cloud.Set) []*ordered.Map {
	network := kind.Value(f, nil, "network")
	if network == "" {
		network = "global/networks/default"
	}
	type group struct {
		from    []string
		allowed ordered.List
	}
	var groups []*group
	for _, rule := range set.Rules {
		for _, six := range []bool{false, true} {
			var from []string
			for _, prefix := range rule.From {
				if strings.Contains(prefix, ":") == six {
					from = append(from, prefix)
				}
			}
			if len(from) == 0 {
				continue
			}
			allowed := ordered.Of("IPProtocol", protocol(rule.Protocol, six))
			switch {
			case rule.First > 0 && rule.First == rule.Last:
				allowed.Set("ports", []string{fmt.Sprint(rule.First)})
			case rule.First > 0:
				allowed.Set("ports", []string{fmt.Sprintf("%d-%d", rule.First, rule.Last)})
			}
			at := slices.IndexFunc(groups, func(g *group) bool { return slices.Equal(g.from, from) })
			if at < 0 {
				at = len(groups)
				groups = append(groups, &group{from: from})
			}
			groups[at].allowed = append(groups[at].allowed, allowed)
		}
	}
	var bodies []*ordered.Map
	for i, g := range groups {
		name := f.Name + "-" + set.Name
		if i > 0 {
			name += fmt.Sprintf("-%d", i+1)
		}
		bodies = append(bodies, ordered.Of("name", kind.NameOf(name), "description", set.About, "network", network, "direction", "INGRESS", "priority", 1000,
			"sourceRanges", g.from, "targetTags", []string{tagOf(f, set.Name)}, "allowed", g.allowed))
	}
	return bodies
}

func protocol(p fleet.Protocol, six bool) string {
	switch {
	case p == fleet.AnyProtocol:
		return "all"
	case p == fleet.ICMP && six:
		return "58" // ICMPv6 (IANA protocol numbers)
	}
	return string(p)
}

func steps(job *render.Job, machines []*fleet.Machine) []render.Step {
	f := job.Fleet
	project := kind.Place(f, nil, "project")
	send := func(about, url, file string) render.Step {
		return render.Step{About: about,
			Command: fmt.Sprintf(`curl --fail-with-body -X POST -H "Authorization: Bearer $(gcloud auth print-access-token)" -H 'Content-Type: application/json' --data @%s %s`, file, url),
			Request: fmt.Sprintf("POST %s\nAuthorization: Bearer $TOKEN\nContent-Type: application/json\n\n%s", url, file)}
	}
	base := "https://compute.googleapis.com/compute/v1/projects/" + project
	var list []render.Step
	for _, set := range cloud.Sets(f, machines) {
		for i := range firewalls(f, set) {
			list = append(list, send("make the firewall "+set.Name, base+"/global/firewalls", fileOf(set, i)))
		}
	}
	for _, m := range machines {
		list = append(list, send("make "+m.Name, base+"/zones/"+kind.Place(f, m, "zone")+"/instances", m.Name+"/instance.json"))
	}
	return list
}

// fileOf is the file of the n-th body of a set.
func fileOf(set cloud.Set, n int) string {
	if n == 0 {
		return "firewall-" + set.Name + ".json"
	}
	return fmt.Sprintf("firewall-%s-%d.json", set.Name, n+1)
}
