package droplet

import (
	"fmt"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/quote"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/render"
)

// outbound allows every outgoing connection.
const outbound = "protocol:tcp,ports:all,address:0.0.0.0/0,address:::/0 " +
	"protocol:udp,ports:all,address:0.0.0.0/0,address:::/0 protocol:icmp,address:0.0.0.0/0,address:::/0"

func steps(job *render.Job, machines []*fleet.Machine) []render.Step {
	f := job.Fleet
	var list []render.Step
	for _, key := range cloud.AdminKeys(f, machines) {
		list = append(list, render.Step{
			About: "register the key " + key.Name,
			Command: fmt.Sprintf("doctl compute ssh-key create %s-%s --public-key %s", f.Deployment(), key.Name,
				quote.Shell(cloud.KeyText(key))),
		})
	}
	for _, set := range cloud.Sets(f, machines) {
		command := fmt.Sprintf("doctl compute firewall create --name %s-%s --tag-names %s --outbound-rules '%s'",
			f.Deployment(), set.Name, tagOf(f, set.Name), outbound)
		if rules := inbound(set); rules != "" {
			command += " --inbound-rules '" + rules + "'"
		}
		// A firewall takes only tags that are there.
		list = append(list, render.Step{About: "create the firewall " + set.Name,
			Command: fmt.Sprintf("doctl compute tag create %s && %s", tagOf(f, set.Name), command)})
	}
	for _, m := range machines {
		list = append(list, createMachine(f, m)...)
	}
	return list
}

func createMachine(f *fleet.Fleet, m *fleet.Machine) []render.Step {
	const url = "https://api.digitalocean.com/v2/droplets"
	list := []render.Step{{
		About: "create " + m.Name,
		Command: fmt.Sprintf(`curl --fail-with-body -X POST -H "Authorization: Bearer $DIGITALOCEAN_TOKEN" `+
			`-H 'Content-Type: application/json' --data @%s/droplet.json %s`, m.Name, url),
		Request: fmt.Sprintf("POST %s\nAuthorization: Bearer $TOKEN\nContent-Type: application/json\n\n%s/droplet.json",
			url, m.Name),
	}}
	for _, disk := range m.Disks {
		if disk.IsRoot() {
			continue
		}
		idOf := func(list, name string) string {
			return fmt.Sprintf(`$(doctl compute %s list --format ID,Name --no-header | awk '$2 == "%s" {print $1}')`,
				list, name)
		}
		volume, name := volumeName(m, disk), platform.NameOf(m.Name)
		list = append(list, render.Step{
			About: "create the disk " + disk.Name + " of " + m.Name + " and attach it",
			// A machine that is being created takes no other action.
			Command: fmt.Sprintf("doctl compute volume create %s --region %s --size %dGiB && "+
				"until doctl compute droplet list --format Name,Status --no-header | grep -qE '^%s +active$'; do sleep 5; done && "+
				"doctl compute volume-action attach %s %s --wait",
				volume, platform.ValueOrPlaceholder(f, m, "region"), platform.DiskSize(f, m, disk), name,
				idOf("volume", volume), idOf("droplet", name)),
		})
	}
	return list
}

// inbound renders a set in the form of doctl.
func inbound(set cloud.Set) string {
	text := ""
	for _, opening := range set.Allow {
		for _, protocol := range []fleet.Protocol{fleet.TCP, fleet.UDP, fleet.ICMP} {
			if opening.Protocol != protocol && opening.Protocol != fleet.AnyProtocol {
				continue
			}
			if text != "" {
				text += " "
			}
			text += "protocol:" + string(protocol)
			switch {
			case protocol == fleet.ICMP:
			case opening.First == 0:
				text += ",ports:all"
			case opening.First == opening.Last:
				text += fmt.Sprintf(",ports:%d", opening.First)
			default:
				text += fmt.Sprintf(",ports:%d-%d", opening.First, opening.Last)
			}
			for _, from := range opening.From {
				text += ",address:" + from
			}
		}
	}
	return text
}
