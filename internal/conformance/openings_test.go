package conformance

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloud"
)

// opening is who may come in where, in one form for all platforms.
type opening struct{ machine, protocol, ports, from string }

// asked is what the definition opens.
func asked(f *fleet.Fleet) []opening {
	var list []opening
	for _, m := range f.Machines {
		for _, set := range cloud.Sets(f, []*fleet.Machine{m}) {
			for _, rule := range set.Rules {
				ports := "all"
				if rule.First > 0 {
					ports = fmt.Sprintf("%d-%d", rule.First, rule.Last)
				}
				for _, from := range rule.From {
					list = append(list, opening{m.Name, string(rule.Protocol), ports, from})
				}
			}
		}
	}
	return sorted(list)
}

func sorted(list []opening) []opening {
	sort.Slice(list, func(i, j int) bool { return fmt.Sprint(list[i]) < fmt.Sprint(list[j]) })
	return slices.Compact(list)
}

// TestNothingElseIsOpened reads the rules back out of each format and compares
// them with the definition's: sources, protocols and ranges survive, and nothing
// is opened that was not asked for.
func TestNothingElseIsOpened(t *testing.T) {
	f := busy(t)
	want := asked(f)
	word := map[string]string{"tcp": "tcp", "udp": "udp", "icmp": "icmp", "icmpv6": "icmp", "ipv6-icmp": "icmp", "58": "icmp", "-1": "any", "all": "any", "<nil>": "any",
		"Tcp": "tcp", "Udp": "udp", "Icmp": "icmp", "*": "any"}
	ports := func(first, last any) string {
		if first == nil || fmt.Sprint(first) == "-1" {
			return "all"
		}
		return fmt.Sprintf("%v-%v", first, last)
	}
	compare := func(name string, got []opening) {
		t.Helper()
		if got = sorted(got); !slices.Equal(got, want) {
			for _, o := range got {
				if !slices.Contains(want, o) {
					t.Errorf("%s opens %v, which nobody asked for", name, o)
				}
			}
			for _, o := range want {
				if !slices.Contains(got, o) {
					t.Errorf("%s does not open %v", name, o)
				}
			}
		}
	}

	heat := decoded(t, rendering(t, "heat", f)["tide-office.heat.yaml"])["resources"].(map[string]any)
	var got []opening
	for _, m := range f.Machines {
		for _, group := range at(t, heat, m.Name+"_port_"+m.NICs[0].Name+"/properties/security_groups").([]any) {
			rules, _ := heat[at(t, group, "get_resource").(string)].(map[string]any)["properties"].(map[string]any)["rules"].([]any)
			for _, rule := range rules {
				r := rule.(map[string]any)
				got = append(got, opening{m.Name, word[fmt.Sprint(r["protocol"])], ports(r["port_range_min"], r["port_range_max"]), r["remote_ip_prefix"].(string)})
			}
		}
	}
	compare("heat", got)

	cfn := decoded(t, rendering(t, "cloudformation", f)["tide-office.cloudformation.json"])["Resources"].(map[string]any)
	got = nil
	for _, resource := range cfn {
		if at(t, resource, "Type") != "AWS::EC2::Instance" {
			continue
		}
		name := strings.TrimPrefix(at(t, resource, "Properties/Tags/0/Value").(string), "tide-office-")
		nic := at(t, resource, "Properties/NetworkInterfaces/0/NetworkInterfaceId/Ref").(string)
		for _, group := range at(t, cfn, nic+"/Properties/GroupSet").([]any) {
			rules, _ := at(t, cfn, at(t, group, "Fn::GetAtt/0").(string)+"/Properties").(map[string]any)["SecurityGroupIngress"].([]any)
			for _, rule := range rules {
				r := rule.(map[string]any)
				from, is := r["CidrIp"].(string)
				if !is {
					from = r["CidrIpv6"].(string)
				}
				got = append(got, opening{name, word[r["IpProtocol"].(string)], ports(r["FromPort"], r["ToPort"]), from})
			}
		}
	}
	compare("cloudformation", got)

	gce := rendering(t, "gce", f)
	got = nil
	for _, m := range f.Machines {
		tags := fmt.Sprint(at(t, decoded(t, gce[m.Name+"/instance.json"]), "tags/items"))
		for name, file := range gce {
			if !strings.HasPrefix(name, "firewall-") {
				continue
			}
			body := decoded(t, file)
			if !slices.Contains(strings.Fields(strings.Trim(tags, "[]")), at(t, body, "targetTags/0").(string)) {
				continue
			}
			for _, allowed := range body["allowed"].([]any) {
				r := allowed.(map[string]any)
				open := "all"
				if r["ports"] != nil {
					open = at(t, r, "ports/0").(string)
					if !strings.Contains(open, "-") {
						open += "-" + open
					}
				}
				for _, from := range body["sourceRanges"].([]any) {
					got = append(got, opening{m.Name, word[r["IPProtocol"].(string)], open, from.(string)})
				}
			}
		}
	}
	compare("gce", got)

	arm := decoded(t, rendering(t, "arm", f)["tide-office.arm.json"])
	byName := map[string]any{}
	for _, resource := range arm["resources"].([]any) {
		byName[at(t, resource, "type").(string)+" "+at(t, resource, "name").(string)] = resource
	}
	got = nil
	for _, m := range f.Machines {
		nic := byName["Microsoft.Network/networkInterfaces "+m.Name+"-"+m.NICs[0].Name]
		id := at(t, nic, "properties/networkSecurityGroup/id").(string)
		group := byName["Microsoft.Network/networkSecurityGroups "+strings.Split(id, "'")[3]]
		for _, rule := range at(t, group, "properties/securityRules").([]any) {
			r := at(t, rule, "properties").(map[string]any)
			if r["access"] == "Deny" {
				continue
			}
			open := r["destinationPortRange"].(string)
			switch {
			case open == "*":
				open = "all"
			case !strings.Contains(open, "-"):
				open += "-" + open
			}
			from := []any{r["sourceAddressPrefix"]}
			if from[0] == "*" {
				from = []any{"0.0.0.0/0", "::/0"}
			} else if from[0] == nil {
				from = r["sourceAddressPrefixes"].([]any)
			}
			for _, prefix := range from {
				got = append(got, opening{m.Name, word[r["protocol"].(string)], open, prefix.(string)})
			}
		}
	}
	compare("arm", got)
}
