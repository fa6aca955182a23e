// Package gce renders machines as bodies of Google Compute Engine's REST
// interface: instances.insert and firewalls.insert (cloud.google.com, "Compute
// Engine API v1").
package gce

import (
	"fmt"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/render"
)

// Target renders one body per machine and one per firewall.
var Target = platform.NewTarget(render.Target{
	Summary: "request bodies for Google Compute Engine: machines and firewalls",
	Writes:  []string{"MACHINE/instance.json", "firewall-NAME.json"},
	Fates:   fates,
	Needs:   needs,
	Machine: instance,
	Fleet:   firewalls,
	Steps:   steps,
}, readBack)

func fates() []render.Fate {
	return render.Merge(cloud.Fates(),
		render.Carry("machine.about", "machine.interruptible", "identity.account",
			"identity.scopes",
			"disk.speed", "firmware.secure_boot", "firmware.tpm"),
		render.Adapt("what becomes of an interruptible machine that is taken away; one that stops itself stays",
			"machine.when_stopped"),
		render.Adapt("labels become lower case", "machine.labels"),
		render.Adapt("network tags tie machines to firewalls", "machine.firewall"),
		render.Adapt("the network and subnetwork that platforms names, or the project's default ones", "network.mode"),
		render.Adapt("only the primary interface is in the body; each other one needs a network of its own",
			"nic.network", "nic.primary"),
		render.Adapt("requested if the setting subnetwork names the subnet", "nic.address"),
		render.Adapt("the disk is not deleted with the machine", "disk.keep"),
		render.Adapt("with secure boot or a TPM, the machine is a shielded one, which boots by UEFI", "firmware.kind"),
		render.LeaveOut("subnets are created separately, and addresses come from them", "network.subnet"),
		render.LeaveOut("the zone is part of the URL that the body is sent to", "machine.region", "platform.region"),
	)
}

func steps(job *render.Job, machines []*fleet.Machine) []render.Step {
	f := job.Fleet
	project := platform.ValueOrPlaceholder(f, nil, "project")
	send := func(about, url, file string) render.Step {
		return render.Step{About: about,
			Command: fmt.Sprintf(`curl --fail-with-body -X POST -H "Authorization: Bearer $(gcloud auth print-access-token)" `+
				`-H 'Content-Type: application/json' --data @%s %s`, file, url),
			Request: fmt.Sprintf("POST %s\nAuthorization: Bearer $TOKEN\nContent-Type: application/json\n\n%s", url,
				file)}
	}
	base := "https://compute.googleapis.com/compute/v1/projects/" + project
	var list []render.Step
	for _, body := range bodies(f, machines) {
		list = append(list, send(body.about, base+"/global/firewalls", body.file))
	}
	for _, m := range machines {
		zone := platform.ValueOrPlaceholder(f, m, "zone")
		list = append(list, send("create "+m.Name, base+"/zones/"+zone+"/instances", m.Name+"/instance.json"))
	}
	return list
}

// fileOf returns the file of the n-th body of a set.
func fileOf(set string, n int) string {
	if n == 0 {
		return "firewall-" + set + ".json"
	}
	return fmt.Sprintf("firewall-%s-%d.json", set, n+1)
}
