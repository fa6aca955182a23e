// Package check finds, before launch, what would go wrong after it. Call [Run]
// with every fleet that will share a host. It returns all findings, sorted by
// place. [Rules] returns the rule book: each rule explains itself and has one
// example that breaks it and one that doesn't.
//
// Each theme of rules has a file of its own: ports.go holds the theme "ports".
// The text and examples of a rule are in the folder rules/THEME/RULE.
//
// Checks are pure: they read no clock, no file and no socket.
package check

import (
	"context"
	"fmt"
	"maps"
	"sync"
	"time"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// Options changes what is checked. The zero value checks everything that needs no
// information from outside the definition.
type Options struct {
	// Today is the date that end-of-support dates are compared with. The zero time
	// leaves them unchecked.
	Today time.Time
	// Host describes the host that the machines will run on, or is nil.
	Host *fleet.Host
	// Platforms names targets of a program's own, which definitions may name beside ours.
	Platforms []string
}

// Run checks fleets that have been completed. The fleets share a host, so ports
// and addresses that conflict across fleets are found too. Findings that a fleet
// or machine accepts are left out. The rest are sorted by place, without
// duplicates.
//
// It fails if a fleet has not been completed, or if the context ends.
func Run(ctx context.Context, options Options, fleets ...*fleet.Fleet) ([]finding.Finding, error) {
	for _, f := range fleets {
		if err := f.CheckComplete(); err != nil {
			return nil, err
		}
	}
	book := book()
	// Rules of the first boot parse scripts, which takes about as long as all other
	// rules together. The two run in parallel, without shared state.
	scripts, others := newRun(ctx, options, fleets, book), newRun(ctx, options, fleets, book)
	var group sync.WaitGroup
	group.Go(func() { scripts.apply(func(theme string) bool { return theme == firstBoot }) })
	others.apply(func(theme string) bool { return theme != firstBoot && theme != bookkeeping })
	group.Wait()
	if err := ctx.Err(); err != nil {
		return nil, fmt.Errorf("checking: %w", err)
	}
	// Bookkeeping looks at what all others found and accepted.
	others.findings = append(others.findings, scripts.findings...)
	maps.Copy(others.accepted, scripts.accepted)
	others.apply(func(theme string) bool { return theme == bookkeeping })
	return merge(finding.Sort(others.findings)), nil
}

// run is one run of the rules over some fleets.
type run struct {
	// ctx ends the run.
	ctx     context.Context
	options Options
	book    []rule
	fleets  []*fleet.Fleet
	uses    map[*fleet.Fleet]fleet.Uses
	scripts *scripts
	// suggestions are the remedies for names that aren't defined.
	suggestions map[suggestion]string
	findings    []finding.Finding
	// accepted records the accept lines that silenced something.
	accepted map[acceptance]bool
}

func newRun(ctx context.Context, options Options, fleets []*fleet.Fleet, book []rule) *run {
	return &run{
		ctx: ctx, options: options, book: book, fleets: fleets, uses: map[*fleet.Fleet]fleet.Uses{},
		scripts: newScripts(), suggestions: map[suggestion]string{}, accepted: map[acceptance]bool{},
	}
}

// apply applies the rules of some themes. Rules about one machine are applied
// machine by machine, so that a script parsed for one rule is still at hand for
// the next.
func (r *run) apply(chosen func(theme string) bool) {
	var ofMachines []*rule
	for i := range r.book {
		rule := &r.book[i]
		switch {
		case !chosen(rule.theme) || r.ctx.Err() != nil:
		case rule.together != nil:
			rule.together(together{r, rule})
		case rule.fleet != nil:
			for _, f := range r.fleets {
				rule.fleet(reporter{run: r, rule: rule, fleet: f}, f)
			}
		case rule.machine != nil:
			ofMachines = append(ofMachines, rule)
		}
	}
	for _, f := range r.fleets {
		for _, m := range f.Machines {
			if r.ctx.Err() != nil {
				return
			}
			for _, rule := range ofMachines {
				rule.machine(reporter{r, rule, f, m}, f, m)
			}
		}
	}
}

// used returns what the machines of a fleet use. Several rules ask for it.
func (r *run) used(f *fleet.Fleet) fleet.Uses {
	uses, ok := r.uses[f]
	if !ok {
		uses = f.UsedBy(f.Machines)
		r.uses[f] = uses
	}
	return uses
}

// merge joins findings that several machines share, such as one for a value in a
// kit, into a single finding that counts the others.
func merge(findings []finding.Finding) []finding.Finding {
	kept := findings[:0]
	more := 0
	count := func() {
		if more == 1 {
			kept[len(kept)-1].Message += "; the same applies to 1 more machine"
		} else if more > 1 {
			kept[len(kept)-1].Message += fmt.Sprintf("; the same applies to %d more machines", more)
		}
		more = 0
	}
	for _, found := range findings {
		if len(kept) > 0 && sameCause(kept[len(kept)-1], found) {
			more++
			continue
		}
		count()
		kept = append(kept, found)
	}
	count()
	return kept
}

// sameCause reports whether two findings about different machines have one cause.
func sameCause(a, b finding.Finding) bool {
	return a.Place.IsValid() && a.Place == b.Place && a.Rule == b.Rule && a.Remedy == b.Remedy && a.Machine != b.Machine
}
