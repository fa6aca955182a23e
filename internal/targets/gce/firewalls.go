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

// firewalls renders the firewalls that the machines need.
func firewalls(job *render.Job) ([]render.File, error) {
	var files []render.File
	for _, set := range cloud.Sets(job.Fleet, job.Machines()) {
		for i, body := range firewallBodies(job.Fleet, set) {
			data, err := body.JSON()
			if err != nil {
				return nil, err
			}
			files = append(files, render.File{Name: fileOf(set, i), Data: data, Mode: 0o644})
		}
	}
	return files, nil
}

// tagOf returns the network tag of a set.
func tagOf(f *fleet.Fleet, set string) string { return platform.NameOf(f.Name + "-" + set) }

// allowed is the ports that one list of sources may connect to.
type allowed struct {
	from  []string
	ports ordered.List
}

// firewallBodies renders a set. It takes one body for each list of sources, since a
// body has only one, and one for each family of addresses. A closed set takes none:
// what nothing allows is refused.
func firewallBodies(f *fleet.Fleet, set cloud.Set) []*ordered.Map {
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
	var bodies []*ordered.Map
	for i, group := range groups {
		name := f.Name + "-" + set.Name
		if i > 0 {
			name += fmt.Sprintf("-%d", i+1)
		}
		bodies = append(bodies, ordered.Of("name", platform.NameOf(name), "description", set.About,
			"network", networkOf(f, nil), "direction", "INGRESS", "priority", 1000,
			"sourceRanges", group.from, "targetTags", []string{tagOf(f, set.Name)}, "allowed", group.ports))
	}
	return bodies
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
