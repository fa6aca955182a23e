// Package oci renders machines as bodies of Oracle Cloud Infrastructure's
// LaunchInstance (docs.oracle.com, "Core Services API", LaunchInstanceDetails).
package oci

import (
	"fmt"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/ordered"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/render"
)

// Target renders one body per machine.
var Target = platform.NewTarget(render.Target{
	Summary: "request bodies for Oracle Cloud Infrastructure, one per machine",
	Writes:  []string{"MACHINE/instance.json"},
	Fates:   fates,
	Needs:   needs,
	Machine: instance,
	Steps:   steps,
}, readBack)

func steps(job *render.Job, machines []*fleet.Machine) []render.Step {
	f := job.Fleet
	var list []render.Step
	for _, set := range cloud.Sets(f, machines) {
		if len(set.Allow) == 0 {
			continue
		}
		list = append(list, render.Step{
			About: "create the security group " + set.Name + " and its rules, and write its id in place of " +
				groupPlaceholder(set.Name),
			Command: fmt.Sprintf("NSG_ID=$(oci network nsg create --compartment-id %s --vcn-id %s --display-name %s-%s "+
				"--query data.id --raw-output) && echo \"$NSG_ID\" && "+
				"oci network nsg rules add --nsg-id \"$NSG_ID\" --security-rules '%s'",
				platform.ValueOrPlaceholder(f, nil, "compartment"), platform.ValueOrPlaceholder(f, nil, "vcn"), f.Deployment(),
				set.Name, rulesJSON(set)),
		})
	}
	for _, m := range machines {
		region := platform.ValueOrPlaceholder(f, m, "region")
		// The program's own command for it takes other keys than the body has.
		list = append(list, render.Step{
			About: "create " + m.Name,
			Command: fmt.Sprintf("oci raw-request --http-method POST --target-uri "+
				"https://iaas.%s.oraclecloud.com/20160918/instances/ --request-body file://%s/instance.json", region, m.Name),
			Request: fmt.Sprintf("POST https://iaas.%s.oraclecloud.com/20160918/instances/\n"+
				"Content-Type: application/json\n"+
				"Authorization: signed with your own key (HTTP signatures)\n\n%s/instance.json", region, m.Name),
		})
	}
	return list
}

func fates() []render.Fate {
	return render.Merge(cloud.Fates(),
		render.Carry("machine.interruptible", "firmware.secure_boot", "firmware.tpm"),
		render.Adapt("the subnet that platforms names, for the primary interface",
			"network.mode"),
		render.Adapt("only the primary interface is in the body", "nic.network",
			"nic.primary"),
		render.Adapt("security groups, created by the printed commands, whose ids are written into the body; the subnet's "+
			"own security lists add to them, and those of a new network let SSH in from everywhere",
			"machine.firewall", "allowance.port", "allowance.from"),
		render.Adapt("volumes outlive the machine; the root disk does if the request that terminates it says so "+
			"(preserveBootVolume)", "disk.keep"),
		render.Adapt("more performance units per GB", "disk.speed"),
		render.Adapt("on amd64, one of the platform's processors counts as two", "resources.cpus"),
		render.LeaveOut("subnets are created separately", "network.subnet"),
		render.Adapt("the region is part of the URL that the body is sent to", "machine.region", "platform.region"),
		render.LeaveOut("machines become members of groups by the platform's own rules", "identity.account",
			"identity.scopes"),
		render.LeaveOut("a machine that stops itself stays", "machine.when_stopped"),
	)
}

// needs adds the ids of the security groups.
func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	findings := platform.Needs(f, m)
	for _, set := range cloud.SetsOf(f, m) {
		setting := cloud.Setting{Key: "group_" + set, What: "the id of the security group " + set}
		if set != cloud.Closed && platform.Value(f, m, setting.Key) == "" {
			findings = append(findings, platform.Missing(f, m, setting, groupPlaceholder(set)))
		}
	}
	return findings
}

// groupPlaceholder stands for the id of a security group.
func groupPlaceholder(set string) string { return cloud.Placeholder + "group-" + set }

// rulesJSON renders a set for `oci network nsg rules add` (AddSecurityRuleDetails),
// where protocols have their IANA numbers.
func rulesJSON(set cloud.Set) string {
	var list ordered.List
	for _, opening := range set.Allow {
		for _, from := range opening.From {
			number := "all"
			switch opening.Protocol {
			case fleet.TCP:
				number = "6"
			case fleet.UDP:
				number = "17"
			case fleet.ICMP:
				number = cloud.ByFamily(from, "1", "58")
			}
			entry := ordered.Of("direction", "INGRESS", "protocol", number, "source", from, "sourceType", "CIDR_BLOCK")
			if opening.First > 0 {
				ports := ordered.Of("min", opening.First, "max", opening.Last)
				entry.Set(string(opening.Protocol)+"Options", ordered.Of("destinationPortRange", ports))
			}
			list = append(list, entry)
		}
	}
	data, err := ordered.Of("rules", list).MarshalJSON()
	if err != nil {
		return "" // it has texts and numbers only, which can always be encoded
	}
	return strings.TrimSuffix(strings.TrimPrefix(string(data), `{"rules":`), "}")
}
