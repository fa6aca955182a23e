// Package check finds, before launch, what would go wrong after it. Call [Run]
// with every fleet that will share a host; it returns all findings, sorted by
// place. [Rules] is the rule book: each rule is a documented value with an
// example that breaks it and one that keeps it.
//
// Checks are pure: they read no clock, no file and no socket.
package check

import (
	"fmt"
	"iter"
	"maps"
	"sync"
	"time"

	"mvdan.cc/sh/v3/syntax"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// Options changes what is checked. The zero value checks what needs nothing from
// outside.
type Options struct {
	// Today is what ends of support are compared with; the zero time leaves them
	// unchecked.
	Today time.Time
	// Host is what is known of the host that the machines will run on, or nil.
	Host *fleet.Host
}

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
// and addresses that meet across fleets are found too. What a fleet or machine
// accepts is left out. The findings come sorted by place and without repeats.
func Run(options Options, fleets ...*fleet.Fleet) []finding.Finding {
	book := append(Rules(), TargetRules()...)
	// Rules on the first boot parse scripts, which takes about as long as all the
	// others: the two run beside each other, each with a pass of its own.
	scripts, others := newPass(options, fleets, book), newPass(options, fleets, book)
	var group sync.WaitGroup
	group.Go(func() { scripts.run(func(theme string) bool { return theme == "first boot" }) })
	others.run(func(theme string) bool { return theme != "first boot" && theme != "bookkeeping" })
	group.Wait()
	// Bookkeeping looks at what all of them found and accepted.
	others.findings = append(others.findings, scripts.findings...)
	maps.Copy(others.accepted, scripts.accepted)
	others.run(func(theme string) bool { return theme == "bookkeeping" })
	return merged(finding.Sort(others.findings))
}

func newPass(options Options, fleets []*fleet.Fleet, book []finding.Rule) *pass {
	return &pass{
		options: options, fleets: fleets, book: book,
		scripts: map[string]*script{}, parsers: map[syntax.LangVariant]*syntax.Parser{}, accepted: map[acceptance]bool{},
		uses: map[*fleet.Fleet]map[use]bool{},
	}
}

// run runs the rules of some themes: those about everything together one after
// the other, and those about one machine all on each machine in turn, so that
// what is read of a machine need not be kept for all.
func (p *pass) run(chosen func(theme string) bool) {
	var ofMachines []*Rule
	for i := range rules {
		rule := &rules[i]
		switch {
		case !chosen(rule.Theme):
		case rule.load != nil:
			p.rule = rule
			rule.load(p)
		default:
			ofMachines = append(ofMachines, rule)
		}
	}
	for f, m := range p.machines() {
		for _, p.rule = range ofMachines {
			p.rule.machine(p, f, m)
		}
	}
}

// merged tells a cause once that several machines share: a value of a kit gives
// each of them a finding at the same place.
func merged(findings []finding.Finding) []finding.Finding {
	kept := findings[:0]
	more := 0
	close := func() {
		if more > 0 {
			kept[len(kept)-1].Message += fmt.Sprintf("; the same holds for %d more", more)
			more = 0
		}
	}
	for _, found := range findings {
		if len(kept) > 0 {
			if last := kept[len(kept)-1]; found.Place.IsValid() && found.Place == last.Place && found.Rule == last.Rule && found.Remedy == last.Remedy && found.Path != last.Path {
				more++
				continue
			}
		}
		close()
		kept = append(kept, found)
	}
	close()
	return kept
}

// pass is one run over one load.
type pass struct {
	options Options
	// book is the rule book without what its rules do: rules that look names up
	// in it cannot refer to the list that they are in themselves.
	book     []finding.Rule
	fleets   []*fleet.Fleet
	rule     *Rule
	findings []finding.Finding
	// fleet and machine are what a rule is looking at; machine may be nil.
	fleet   *fleet.Fleet
	machine *fleet.Machine
	// accepted are the acceptances that silenced something.
	accepted map[acceptance]bool
	// scripts holds what was parsed, by its text: kits give many machines the
	// same script.
	scripts map[string]*script
	parsers map[syntax.LangVariant]*syntax.Parser
	uses    map[*fleet.Fleet]map[use]bool
}

// maxScripts is how many parsed scripts a pass keeps.
const maxScripts = 1000

// acceptance is one line of accept, wherever it came from: a kit's line that
// silences a rule for one machine is used, though another machine keeps it.
type acceptance struct {
	rule  string
	place fleet.Place
}

// machines visits every machine of the load.
func (p *pass) machines() iter.Seq2[*fleet.Fleet, *fleet.Machine] {
	return func(visit func(*fleet.Fleet, *fleet.Machine) bool) {
		for f := range p.each() {
			for _, m := range f.Machines {
				p.machine = m
				if !visit(f, m) {
					return
				}
			}
		}
	}
}

// each visits every fleet of the load.
func (p *pass) each() iter.Seq[*fleet.Fleet] {
	return func(visit func(*fleet.Fleet) bool) {
		for _, f := range p.fleets {
			p.fleet, p.machine = f, nil
			if !visit(f) {
				return
			}
		}
	}
}

// report adds a finding of the rule that is running, unless it is accepted.
func (p *pass) report(place fleet.Place, path, message, remedy string, related ...finding.Related) {
	if p.isAccepted() {
		return
	}
	p.findings = append(p.findings, finding.Finding{
		Rule: p.rule.Name, Severity: p.rule.Severity, Place: place, Path: path,
		Message: message, Remedy: remedy, Related: related,
	})
}

// reportSecret is report for a place whose line must not be shown.
func (p *pass) reportSecret(place fleet.Place, path, message, remedy string) {
	before := len(p.findings)
	p.report(place, path, message, remedy)
	for i := range p.findings[before:] {
		p.findings[before+i].Secret = true
	}
}

// isAccepted reports whether the fleet or machine at hand accepts the rule. What
// cannot work cannot be accepted.
func (p *pass) isAccepted() bool {
	if p.rule.Severity == finding.Error {
		return false
	}
	if p.machine != nil && p.accepts(p.machine.Accept, &p.machine.Origins) {
		return true
	}
	return p.fleet != nil && p.accepts(p.fleet.Accept, &p.fleet.Origins)
}

func (p *pass) accepts(list []fleet.Pair, origins *fleet.Origins) bool {
	for _, pair := range list {
		if pair.Key == p.rule.Name {
			p.accepted[acceptance{pair.Key, origins.PlaceOfItem("accept", pair.Key)}] = true
			return true
		}
	}
	return false
}
