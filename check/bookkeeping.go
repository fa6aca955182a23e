package check

import (
	"fmt"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/nearest"
)

var acceptUnknown = Rule{
	Rule: finding.Rule{
		Name: "accept-unknown", Severity: finding.Error, Theme: "bookkeeping",
		Why:   "A rule is accepted that does not exist, or one whose breach cannot work, so that nothing is silenced by it.",
		Wrong: example("  almanac: {image: bookworm, accept: {open-to-word: It serves the public}}\n"),
		Right: example("  almanac: {image: bookworm}\n"),
	},
	load: func(p *pass) {
		forAcceptances(p, func(place fleet.Place, path string, pair fleet.Pair) {
			rule, known := p.ruleOf(pair.Key)
			switch {
			case !known:
				p.report(place, path, fmt.Sprintf("the rule %q that is accepted does not exist", pair.Key), nearest.Remedy(pair.Key, p.ruleNames()))
			case rule.Severity == finding.Error && rule.Theme != targetTheme:
				p.report(place, path, fmt.Sprintf("the rule %s is an error and cannot be accepted", pair.Key), "mend what breaks it, and remove this line")
			}
		})
	},
}

var acceptUnused = Rule{
	Rule: finding.Rule{
		Name: "accept-unused", Severity: finding.Advice, Theme: "bookkeeping",
		Why:   "A rule is accepted although nothing breaks it any more. The line would silence the next breach, which nobody has looked at.",
		Wrong: example("  almanac: {image: bookworm, accept: {port-below-limit: The site has always been there}}\n"),
		Right: example("  almanac: {image: bookworm, ports: {site: {host: 80, machine: 80}}, accept: {port-below-limit: The site has always been there}}\n"),
	},
	load: func(p *pass) {
		forAcceptances(p, func(place fleet.Place, path string, pair fleet.Pair) {
			if rule, known := p.ruleOf(pair.Key); known && rule.Severity != finding.Error && rule.Theme != targetTheme && !p.accepted[acceptance{pair.Key, place}] {
				p.report(place, path, fmt.Sprintf("the rule %s is accepted, but nothing breaks it", pair.Key), "remove this line")
			}
		})
	},
}

// forAcceptances visits every line of accept of the load.
func forAcceptances(p *pass, visit func(place fleet.Place, path string, pair fleet.Pair)) {
	for f := range p.each() {
		for _, pair := range f.Accept {
			visit(f.PlaceOfItem("accept", pair.Key), "accept."+pair.Key, pair)
		}
	}
	for _, m := range p.machines() {
		for _, pair := range m.Accept {
			visit(m.PlaceOfItem("accept", pair.Key), machinePath(m, "accept", pair.Key), pair)
		}
	}
}

func (p *pass) ruleOf(name string) (finding.Rule, bool) {
	for _, rule := range p.book {
		if rule.Name == name {
			return rule, true
		}
	}
	return finding.Rule{}, false
}

func (p *pass) ruleNames() (names []string) {
	for _, rule := range p.book {
		names = append(names, rule.Name)
	}
	return names
}

var unusedDefinition = Rule{
	Rule: finding.Rule{
		Name: "defined-and-unused", Severity: finding.Advice, Theme: "bookkeeping",
		Why:   "An image, network, key, secret or firewall is defined and used by nobody. It is left over, or its name is misspelt where it was meant.",
		Wrong: example("  almanac: {image: bookworm}\nfirewalls:\n  office: {allow: [{port: 22/tcp, from: 198.51.100.0/24}]}\n"),
		Right: example("  almanac: {image: bookworm, firewall: [office]}\nfirewalls:\n  office: {allow: [{port: 22/tcp, from: 198.51.100.0/24}]}\n"),
	},
	load: func(p *pass) {
		for _, found := range p.findings {
			if strings.HasPrefix(found.Rule, "unknown-") {
				return // what looks unused was most likely meant there
			}
		}
		for f := range p.each() {
			if len(f.Machines) == 0 {
				continue // it is there for others to use
			}
			used := p.used(f)
			unused := func(section, name string, place fleet.Place) {
				// What another definition brought in is not this one's affair.
				if !used[use{section, name}] && place.File == f.PlaceOf(fleet.Itself).File && place.IsValid() {
					p.report(place, section+"."+name, fmt.Sprintf("%s is defined under %s and used by nobody", name, section), "remove it, or check the names where it was meant")
				}
			}
			for _, image := range f.Images {
				unused("images", image.Name, image.PlaceOf(fleet.Itself))
			}
			for _, network := range f.Networks {
				unused("networks", network.Name, network.PlaceOf(fleet.Itself))
			}
			for _, key := range f.Keys {
				unused("keys", key.Name, key.PlaceOf(fleet.Itself))
			}
			for _, secret := range f.Secrets {
				unused("secrets", secret.Name, secret.PlaceOf(fleet.Itself))
			}
			for _, firewall := range f.Firewalls {
				unused("firewalls", firewall.Name, firewall.PlaceOf(fleet.Itself))
			}
		}
	},
}

// use is a definition that machines name: its section and its name.
type use struct{ section, name string }

// used lists what the machines of a fleet use. Several rules ask, so it is made
// once a fleet.
func (p *pass) used(f *fleet.Fleet) map[use]bool {
	if p.uses[f] == nil {
		p.uses[f] = usedNames(f)
	}
	return p.uses[f]
}

func usedNames(f *fleet.Fleet) map[use]bool {
	used := map[use]bool{}
	add := func(section string, names ...string) {
		for _, name := range names {
			used[use{section, name}] = true
		}
	}
	for _, m := range f.Machines {
		add("images", m.Image)
		add("firewalls", m.Firewall...)
		add("secrets", m.Console.Password)
		for _, nic := range m.NICs {
			add("networks", nic.Network)
		}
		for _, user := range m.Users {
			add("keys", user.Keys...)
			add("secrets", user.Password)
		}
		for _, file := range m.FirstBoot.Files {
			add("secrets", file.SecretNames()...)
		}
		for _, script := range m.FirstBoot.Scripts {
			add("secrets", script.SecretNames()...)
		}
	}
	return used
}
