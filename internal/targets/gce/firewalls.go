package gce

import (
	"fmt"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/ordered"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/render"
)

// firewalls renders the firewalls that the machines need, in every network that one of
// them is on.
func firewalls(job *render.Job) ([]render.File, error) {
	var files []render.File
	for _, body := range bodies(job.Fleet, job.Machines()) {
		data, err := body.content.JSON()
		if err != nil {
			return nil, err
		}
		files = append(files, render.File{Name: body.file, Data: data, Mode: 0o644})
	}
	return files, nil
}

// body is a request that makes a firewall.
type body struct {
	file, about string
	content     *ordered.Map
}

// everyMachine is the name of what applies to all machines of a fleet.
const everyMachine = "every-machine"

// bodies returns the requests for some machines. The default network lets SSH, remote
// desktop and ICMP in from everywhere, and everything from one machine to another (its
// rules have the priority 65534), so the last ones refuse what nothing allows.
func bodies(f *fleet.Fleet, machines []*fleet.Machine) []body {
	var list []body
	networks := networksOf(f, machines)
	for _, set := range cloud.Sets(f, machines) {
		count := 0
		for _, network := range networks {
			for _, group := range groupsOf(set) {
				list = append(list, body{fileOf(set.Name, count), "create the firewall " + set.Name,
					ordered.Of("name", numbered(f, set.Name, count), "description", set.About, "network", network,
						"direction", "INGRESS", "priority", 1000, "sourceRanges", group.from,
						"targetTags", []string{tagOf(f, set.Name)}, "allowed", group.ports)})
				count++
			}
		}
	}
	count := 0
	for _, network := range networks {
		for _, everyone := range cloud.Everywhere() {
			list = append(list, body{fileOf(everyMachine, count), "refuse what no firewall allows",
				ordered.Of("name", numbered(f, everyMachine, count), "description", "refuses what no firewall of "+f.Name+
					" allows", "network", network, "direction", "INGRESS", "priority", 2000,
					"sourceRanges", []string{everyone}, "targetTags", []string{tagOf(f, everyMachine)},
					"denied", ordered.List{ordered.Of("IPProtocol", "all")})})
			count++
		}
	}
	return list
}

// numbered returns the name of the n-th firewall of a set.
func numbered(f *fleet.Fleet, set string, n int) string {
	name := nameInFleet(f, set)
	if n > 0 {
		name += fmt.Sprintf("-%d", n+1)
	}
	return platform.NameOf(name)
}

// networksOf returns the networks that some machines are on, in the order of the fleet.
func networksOf(f *fleet.Fleet, machines []*fleet.Machine) []string {
	var networks []string
	for _, m := range machines {
		if network := networkOf(f, m); !slices.Contains(networks, network) {
			networks = append(networks, network)
		}
	}
	return networks
}

// nameInFleet returns the name of something of the fleet. Names start with a letter, and a
// fleet's may start with a digit.
func nameInFleet(f *fleet.Fleet, name string) string {
	if first := f.Name[0]; first < 'a' || first > 'z' {
		return "fleet-" + f.Deployment() + "-" + name
	}
	return f.Deployment() + "-" + name
}

// tagOf returns the network tag of a set.
func tagOf(f *fleet.Fleet, set string) string { return platform.NameOf(nameInFleet(f, set)) }

// allowed is the ports that one list of sources may connect to.
type allowed struct {
	from  []string
	ports ordered.List
}

// groupsOf sorts the openings of a set. It takes one body for each list of sources, since
// a body has only one, and one for each family of addresses. A closed set takes none.
func groupsOf(set cloud.Set) []*allowed {
	var groups []*allowed
	for _, opening := range set.Allow {
		for _, six := range []bool{false, true} {
			from := slices.DeleteFunc(slices.Clone(opening.From),
				func(prefix string) bool { return strings.Contains(prefix, ":") != six })
			if len(from) == 0 {
				continue
			}
			at := slices.IndexFunc(groups, func(g *allowed) bool { return slices.Equal(g.from, from) })
			if at < 0 {
				at = len(groups)
				groups = append(groups, &allowed{from: from})
			}
			groups[at].ports = append(groups[at].ports, ports(opening, six))
		}
	}
	return groups
}

func ports(opening cloud.Opening, six bool) *ordered.Map {
	entry := ordered.Of("IPProtocol", protocol(opening.Protocol, six))
	switch {
	case opening.First > 0 && opening.First == opening.Last:
		entry.Set("ports", []string{fmt.Sprint(opening.First)})
	case opening.First > 0:
		entry.Set("ports", []string{fmt.Sprintf("%d-%d", opening.First, opening.Last)})
	}
	return entry
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
