// Package check finds, before launch, what would go wrong after it. Call [Run]
// with every fleet that will share a host; it returns all findings, sorted by
// place. [Rules] is the rule book: each rule is a documented value with an
// example that breaks it and one that keeps it.
//
// Checks are pure: they read no clock, no file and no socket.
package check

import (
	"mvdan.cc/sh/v3/syntax"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// Rule is one entry of the rule book.
type Rule struct {
	finding.Rule
	// machine looks at one machine, load at everything together; a rule has one
	// of the two.
	machine func(p *pass, f *fleet.Fleet, m *fleet.Machine)
	load    func(p *pass)
}

// Rules returns the rule book in the order of its themes.
func Rules() []finding.Rule {
	documented := make([]finding.Rule, len(rules))
	for i, rule := range rules {
		documented[i] = rule.Rule
	}
	return documented
}

// Run checks fleets that have been completed, as one load of one host: ports
// and addresses that meet across fleets are found too. The findings come sorted
// by place and without repeats.
func Run(fleets ...*fleet.Fleet) []finding.Finding {
	p := &pass{fleets: fleets, scripts: map[string]*script{}, parsers: map[syntax.LangVariant]*syntax.Parser{}}
	for i := range rules {
		p.rule = &rules[i]
		if p.rule.load != nil {
			p.rule.load(p)
			continue
		}
		for _, f := range fleets {
			for _, m := range f.Machines {
				p.rule.machine(p, f, m)
			}
		}
	}
	return finding.Sort(p.findings)
}

// pass is one run over one load.
type pass struct {
	fleets   []*fleet.Fleet
	rule     *Rule
	findings []finding.Finding
	// scripts holds what was parsed, by its text: kits give many machines the
	// same script.
	scripts map[string]*script
	parsers map[syntax.LangVariant]*syntax.Parser
}

// report adds a finding of the rule that is running.
func (p *pass) report(place fleet.Place, path, message, remedy string, related ...finding.Related) {
	p.findings = append(p.findings, finding.Finding{
		Rule: p.rule.Name, Severity: p.rule.Severity, Place: place, Path: path,
		Message: message, Remedy: remedy, Related: related,
	})
}

// reportSecret is report for a place whose line must not be shown.
func (p *pass) reportSecret(place fleet.Place, path, message, remedy string) {
	p.report(place, path, message, remedy)
	p.findings[len(p.findings)-1].Secret = true
}
