// Package droplet renders machines as bodies that create DigitalOcean Droplets
// (docs.digitalocean.com, "API Reference", POST /v2/droplets).
package droplet

import (
	"fmt"

	"golang.org/x/crypto/ssh"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/ordered"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/render"
)

// Target renders one body per machine.
var Target = platform.NewTarget(render.Target{
	Summary: "request bodies for DigitalOcean, one per machine",
	Writes:  []string{"MACHINE/droplet.json"},
	Fates:   fates,
	// The metrics agent is for Linux (docs.digitalocean.com, "How to Install the Metrics
	// Agent").
	Overrides: overrides,
	Needs:     needs,
	Machine:   body,
	Steps:     steps,
}, readBack)

func fates() []render.Fate {
	return render.Merge(cloud.Fates(),
		render.LeaveOut("this platform has no settings", "platform.settings"),
		render.Adapt("tags of the form key:value", "machine.labels"),
		render.Adapt("tags tie machines to firewalls, which the printed commands create",
			"machine.firewall", "allowance.port", "allowance.from"),
		render.Adapt("the root disk is that of the size; others are volumes that the printed commands create",
			"disk.size"),
		render.Adapt("volumes outlive the machine in any case", "disk.keep"),
		render.Adapt("the private network that platforms names, or the region's default one", "network.mode"),
		render.Adapt("every machine has a public address here; without it, only the firewall keeps others out",
			"machine.public_address"),
		render.LeaveOut("the platform chooses addresses", "nic.address", "network.subnet", "nic.primary",
			"nic.network"),
		render.Adapt("the platform's own agent, which reports load and memory", "first_boot.guest_tools"),
		render.LeaveOut("regions have no zones", "machine.zone", "platform.zone"),
		render.LeaveOut("the platform has no interruptible capacity", "machine.interruptible"),
		render.LeaveOut("a machine that stops itself stays, and is paid for", "machine.when_stopped"),
		render.LeaveOut("machines have no identity of their own", "identity.account", "identity.scopes"),
		render.LeaveOut("volumes have only one speed", "disk.speed"),
	)
}

func overrides(job *render.Job, m *fleet.Machine) []render.Fate {
	fates := platform.Overrides(job, m)
	if catalog.Of(job.Fleet, m).Linux() {
		return fates
	}
	return render.Merge(fates, render.LeaveOut("the platform's agent is for Linux", "first_boot.guest_tools"))
}

// needs adds the public address that nobody asked for.
func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	report := finding.Report{Machine: m.Name, Findings: platform.Needs(f, m)}
	if !m.PublicAddress {
		report.Add("public-anyway", finding.Warning, finding.OfMachine(m, fleet.Itself),
			"machine %s gets a public address on droplet, as every machine does; only its firewall keeps others out", m.Name).
			Remedy = "give it a firewall, and accept this with a reason"
	}
	return report.Findings
}

func body(job *render.Job, m *fleet.Machine) ([]render.File, error) {
	f := job.Fleet
	prepared, err := platform.PrepareOne(job, m)
	if err != nil {
		return nil, err
	}
	var keys []string
	if _, key := cloud.AdminKey(f, m); key != nil {
		fingerprint, err := fingerprint(key)
		if err != nil {
			return nil, err
		}
		keys = []string{fingerprint}
	}
	tags := []string{"fleet:" + f.Deployment()}
	for _, label := range platform.LabelsOf(m) {
		tags = append(tags, label.Key+":"+label.Value)
	}
	for _, set := range cloud.SetsOf(f, m) {
		tags = append(tags, tagOf(f, set))
	}
	document := ordered.Of("name", platform.NameOf(m.Name), "region", platform.ValueOrPlaceholder(f, m, "region"),
		"size", prepared.Size.Size.Name, "image", platform.ImageOf(f, m), "ssh_keys", keys, "backups", false, "ipv6",
		false,
		"monitoring", m.FirstBoot.GuestTools && catalog.Of(f, m).Linux(), "vpc_uuid", platform.Value(f, m, "network"),
		"tags", tags, "user_data", string(prepared.Payload.Text))
	data, err := document.JSON()
	if err != nil {
		return nil, err
	}
	return []render.File{{Name: m.Name + "/droplet.json", Data: data, Mode: cloud.Mode(prepared.Payload.Secret)}}, nil
}

// tagOf returns the tag of the machines that a firewall applies to.
func tagOf(f *fleet.Fleet, set string) string { return "firewall:" + f.Deployment() + "-" + set }

// fingerprint returns the MD5 fingerprint that the platform identifies a key by.
func fingerprint(key *fleet.Key) (string, error) {
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(key.Text))
	if err != nil {
		return "", fmt.Errorf("key %s: %w", key.Name, err)
	}
	return ssh.FingerprintLegacyMD5(public), nil
}
