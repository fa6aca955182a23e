package check

import (
	"fmt"
	"iter"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// reporter reports findings of one rule about one fleet or machine.
type reporter struct {
	*run
	rule  *rule
	fleet *fleet.Fleet
	// machine is nil for findings about a fleet.
	machine *fleet.Machine
}

// together is what a rule about all fleets gets: the fleets, and reporters.
type together struct {
	*run
	rule *rule
}

// of returns the reporter for findings about a machine, or about a fleet if m is
// nil. It decides whose accept lines apply.
func (t together) of(f *fleet.Fleet, m *fleet.Machine) reporter {
	return reporter{t.run, t.rule, f, m}
}

// machines iterates over the machines of all fleets.
func (t together) machines() iter.Seq2[*fleet.Fleet, *fleet.Machine] {
	return func(yield func(*fleet.Fleet, *fleet.Machine) bool) {
		for _, f := range t.fleets {
			for _, m := range f.Machines {
				if !yield(f, m) {
					return
				}
			}
		}
	}
}

// report adds a finding unless it is accepted. The draft that it returns takes the
// remedy and other details.
func (r reporter) report(at finding.Location, format string, args ...any) draft {
	if r.isAccepted() {
		return draft{}
	}
	found := finding.Finding{
		Rule: r.rule.name, Severity: r.rule.severity, Location: at, Message: fmt.Sprintf(format, args...),
	}
	if r.machine != nil {
		found.Machine = r.machine.Name
	}
	r.findings = append(r.findings, found)
	return draft{r.run, len(r.findings) - 1}
}

// draft completes a finding. The zero draft stands for an accepted one.
type draft struct {
	run   *run
	index int
}

// remedy says what to write instead.
func (d draft) remedy(format string, args ...any) draft {
	if d.run != nil {
		d.run.findings[d.index].Remedy = fmt.Sprintf(format, args...)
	}
	return d
}

// see adds another place that is involved.
func (d draft) see(at finding.Location, note string) draft {
	if d.run != nil {
		found := &d.run.findings[d.index]
		found.Related = append(found.Related, finding.Related{Place: at.Place, Note: note})
	}
	return d
}

// secret keeps the line from being shown.
func (d draft) secret() draft {
	if d.run != nil {
		d.run.findings[d.index].Secret = true
	}
	return d
}

// acceptance identifies an accept line. Several machines may share one from a kit;
// it counts as used once it silences the rule for any of them.
type acceptance struct {
	rule  string
	place fleet.Place
}

// isAccepted reports whether the machine or its fleet accepts the rule. Errors
// can't be accepted.
func (r reporter) isAccepted() bool {
	if r.rule.severity == finding.Error {
		return false
	}
	return r.machine != nil && r.accepts(r.machine.Accept, &r.machine.Origins) ||
		r.fleet != nil && r.accepts(r.fleet.Accept, &r.fleet.Origins)
}

func (r reporter) accepts(list []fleet.Pair, origins *fleet.Origins) bool {
	for _, pair := range list {
		if pair.Key == r.rule.name {
			r.accepted[acceptance{pair.Key, origins.PlaceOfItem("accept", pair.Key)}] = true
			return true
		}
	}
	return false
}
