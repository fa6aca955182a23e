// Package droplet renders machines as bodies that make DigitalOcean Droplets
// (docs.digitalocean.com, "API Reference", POST /v2/droplets).
package droplet

import (
	"fmt"

	"golang.org/x/crypto/ssh"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/ordered"
	"stavren.example/stavren/internal/quote"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// Target renders a body a machine.
var Target = render.Target{
	Name:      "droplet",
	Summary:   "bodies for DigitalOcean's interface, one a machine",
	Writes:    []string{"MACHINE/droplet.json"},
	Fates:     fates(),
	Overrides: kind.Overrides,
	Needs:     kind.Needs,
	Machine:   body,
	Steps:     steps,
}

var kind = cloud.New("droplet", cloudinit.Platform{
	// Volumes are linked by their names.
	DiskDevice: func(disk *fleet.Disk) string { return "/dev/stavren/" + disk.Name },
	FindDisk: func(m *fleet.Machine, disk *fleet.Disk) string {
		return fmt.Sprintf("d=/dev/disk/by-id/scsi-0DO_Volume_%s; i=0; until [ -e $d ] || [ $i -ge 60 ]; do i=$((i+1)); sleep 2; done; readlink -f $d", volumeName(m, disk))
	},
},
	cloud.Place{Key: "region", What: "the region that machines run in"},
)

func volumeName(m *fleet.Machine, disk *fleet.Disk) string {
	return catalog.Shorten(m.Name+"-"+disk.Name, 63)
}

func fates() []render.Fate {
	return render.Merge(cloud.Fates(),
		render.Adapt("tags of the form key:value", "machine.labels"),
		render.Adapt("tags tie machines to firewalls, which the printed commands make", "machine.firewall", "allowance.port", "allowance.from"),
		render.Adapt("the root disk is the size's own; others are volumes that the printed commands make", "disk.size"),
		render.Adapt("volumes outlive the machine in any case", "disk.keep"),
		render.Adapt("the private network that platforms names, or the region's usual one", "network.mode"),
		render.Adapt("every machine has a public address here; without it the firewall alone keeps the world out", "machine.public_address"),
		render.LeaveOut("the platform chooses addresses", "nic.address", "network.subnet", "nic.primary", "nic.network"),
		render.LeaveOut("regions have no zones", "machine.zone", "platform.zone"),
		render.LeaveOut("the platform has no such capacity", "machine.interruptible"),
		render.LeaveOut("a machine that stops itself stays, and is paid for", "machine.when_stopped"),
		render.LeaveOut("machines have no identity of their own", "identity.account", "identity.scopes"),
		render.LeaveOut("volumes have one speed", "disk.speed"),
	)
}

func body(job *render.Job, m *fleet.Machine) ([]render.File, error) {
	f := job.Fleet
	size, _, err := kind.Size(job, m)
	if err != nil {
		return nil, err
	}
	payload, err := kind.UserData(job, m)
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
	tags := []string{"fleet:" + f.Name}
	for _, label := range kind.Labels(m) {
		tags = append(tags, label.Key+":"+label.Value)
	}
	for _, set := range cloud.SetsOf(f, m) {
		tags = append(tags, tagOf(f, set))
	}
	document := ordered.Of("name", kind.NameOf(m.Name), "region", kind.Place(f, m, "region"), "size", size.Size.Name, "image", kind.ImageID(f, m),
		"ssh_keys", keys, "backups", false, "ipv6", false, "monitoring", m.FirstBoot.GuestTools, "vpc_uuid", kind.Value(f, m, "network"), "tags", tags,
		"user_data", string(payload.Text))
	data, err := document.JSON()
	if err != nil {
		return nil, err
	}
	return []render.File{{Name: m.Name + "/droplet.json", Data: data, Mode: cloud.Mode(payload.Secret)}}, nil
}

// tagOf is the tag that a firewall holds for.
func tagOf(f *fleet.Fleet, set string) string { return "firewall:" + f.Name + "-" + set }

// fingerprint is the MD5 fingerprint by which the platform knows a key.
func fingerprint(key *fleet.Key) (string, error) {
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(key.Text))
	if err != nil {
		return "", fmt.Errorf("key %s: %w", key.Name, err)
	}
	return ssh.FingerprintLegacyMD5(public), nil
}

func steps(job *render.Job, machines []*fleet.Machine) []render.Step {
	f := job.Fleet
	var list []render.Step
	for _, key := range cloud.UsedKeys(f, machines) {
		list = append(list, render.Step{About: "make the key " + key.Name + " known", Command: fmt.Sprintf("doctl compute ssh-key create %s-%s --public-key %s", f.Name, key.Name, quote.Shell(cloud.KeyText(key)))})
	}
	for _, set := range cloud.Sets(f, machines) {
		command := fmt.Sprintf("doctl compute firewall create --name %s-%s --tag-names %s --outbound-rules 'protocol:tcp,ports:all,address:0.0.0.0/0,address:::/0 protocol:udp,ports:all,address:0.0.0.0/0,address:::/0 protocol:icmp,address:0.0.0.0/0,address:::/0'", f.Name, set.Name, tagOf(f, set.Name))
		if rules := inbound(set); rules != "" {
			command += " --inbound-rules '" + rules + "'"
		}
		list = append(list, render.Step{About: "make the firewall " + set.Name, Command: command})
	}
	for _, m := range machines {
		list = append(list, render.Step{About: "make " + m.Name,
			Command: fmt.Sprintf(`curl --fail-with-body -X POST -H "Authorization: Bearer $DIGITALOCEAN_TOKEN" -H 'Content-Type: application/json' --data @%s/droplet.json https://api.digitalocean.com/v2/droplets`, m.Name),
			Request: fmt.Sprintf("POST https://api.digitalocean.com/v2/droplets\nAuthorization: Bearer $TOKEN\nContent-Type: application/json\n\n%s/droplet.json", m.Name)})
		for _, disk := range m.Disks {
			if !disk.IsRoot() {
				list = append(list, render.Step{About: "make the disk " + disk.Name + " of " + m.Name + " and attach it", Command: fmt.Sprintf(
					"doctl compute volume create %[1]s --region %[2]s --size %[3]dGiB && doctl compute volume-action attach $(doctl compute volume list --format ID,Name --no-header | awk '$2 == \"%[1]s\" {print $1}') $(doctl compute droplet list --format ID,Name --no-header | awk '$2 == \"%[4]s\" {print $1}')",
					volumeName(m, disk), kind.Place(f, m, "region"), kind.DiskSize(disk), kind.NameOf(m.Name))})
			}
		}
	}
	return list
}

// inbound renders a set as doctl takes it.
func inbound(set cloud.Set) string {
	text := ""
	for _, rule := range set.Rules {
		for _, protocol := range []fleet.Protocol{fleet.TCP, fleet.UDP, fleet.ICMP} {
			if rule.Protocol != protocol && rule.Protocol != fleet.AnyProtocol {
				continue
			}
			if text != "" {
				text += " "
			}
			text += "protocol:" + string(protocol)
			switch {
			case protocol == fleet.ICMP:
			case rule.First == 0:
				text += ",ports:all"
			case rule.First == rule.Last:
				text += fmt.Sprintf(",ports:%d", rule.First)
			default:
				text += fmt.Sprintf(",ports:%d-%d", rule.First, rule.Last)
			}
			for _, from := range rule.From {
				text += ",address:" + from
			}
		}
	}
	return text
}
