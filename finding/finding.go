// Package finding defines what Stavren reports: a [Finding] names the rule that
// was broken, the place that has to change, what is wrong, and the remedy. The
// reader of definitions, the checks and the targets all report findings, so that
// text, JSON and editors share one form.
package finding

import (
	"cmp"
	"slices"
	"strconv"

	"stavren.example/stavren/fleet"
)

// Severity says how much a finding matters.
type Severity int

// The severities, most severe first, so that sorting by value sorts by severity.
const (
	// Error means that it can't work.
	Error Severity = iota
	// Warning means that it is likely to cause trouble.
	Warning
	// Advice means that there is a better way.
	Advice
)

// String returns "error", "warning" or "advice".
func (s Severity) String() string {
	switch s {
	case Error:
		return "error"
	case Warning:
		return "warning"
	default:
		return "advice"
	}
}

// MarshalText writes the severity as String does, for JSON.
func (s Severity) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// Rule documents one kind of finding. Its name is permanent and is never reused
// for another rule.
type Rule struct {
	// Name says what is wrong, such as "port-claimed-twice".
	Name     string
	Severity Severity
	// Theme groups rules, such as "ports".
	Theme string
	// Why is one paragraph: what happens if the rule is ignored.
	Why string
	// Wrong and Right are example definitions. The tests verify that the first
	// gives exactly this finding and the second none.
	Wrong, Right string
}

// Handbook is the address of the page that documents every rule, one section per rule.
const Handbook = "https://stavren.example/docs/rules.md"

// Help returns the address of the rule's section in the handbook.
func (r Rule) Help() string { return Handbook + "#" + r.Name }

// Related is another place involved in a finding.
type Related struct {
	Place fleet.Place
	// Note says what is there, such as "claimed here first".
	Note string
}

// Finding is one fault or one piece of advice.
type Finding struct {
	// Rule is the name of the rule.
	Rule     string
	Severity Severity
	// Location is what has to change.
	Location
	// Machine is the machine that the finding is about, or empty.
	Machine string
	// Message says what is wrong, in one sentence without a full stop.
	Message string
	// Remedy says what to write instead.
	Remedy  string
	Related []Related
	// Secret reports that the line at Place may hold a secret and must not be shown.
	Secret bool
}

// String returns the finding on one line, in the form that compilers use:
// FILE:LINE:COLUMN: severity: rule: message.
func (f Finding) String() string {
	text := f.Severity.String() + ": " + f.Rule + ": " + f.Message
	if where := f.Place.String(); where != "" {
		text = where + ": " + text
	}
	return text
}

// Help returns the address of the section in the handbook on the finding's rule.
func (f Finding) Help() string { return Rule{Name: f.Rule}.Help() }

// Sort orders findings by place, then by severity and rule, and drops duplicates:
// a fault in a kit is one fault, however many machines use the kit.
func Sort(findings []Finding) []Finding {
	slices.SortStableFunc(findings, func(a, b Finding) int {
		return cmp.Or(
			cmp.Compare(a.Place.File, b.Place.File),
			cmp.Compare(a.Place.Line, b.Place.Line),
			cmp.Compare(a.Place.Column, b.Place.Column),
			cmp.Compare(a.Severity, b.Severity),
			cmp.Compare(a.Rule, b.Rule),
			cmp.Compare(a.Message, b.Message),
		)
	})
	// Of duplicates, the most severe comes first and stays.
	type cause struct {
		place         fleet.Place
		rule, message string
	}
	seen := make(map[cause]bool, len(findings))
	return slices.DeleteFunc(findings, func(f Finding) bool {
		key := cause{f.Place, f.Rule, f.Message}
		again := seen[key]
		seen[key] = true
		return again
	})
}

// Count returns the number of findings of each severity.
func Count(findings []Finding) (errors, warnings, advice int) {
	for _, f := range findings {
		switch f.Severity {
		case Error:
			errors++
		case Warning:
			warnings++
		default:
			advice++
		}
	}
	return errors, warnings, advice
}

// Errors is a list of findings as a Go error: the reasons why reading or rendering
// was impossible. Use errors.As to get at the findings.
type Errors []Finding

// Error returns the first finding and the number of others.
func (e Errors) Error() string {
	switch len(e) {
	case 0:
		return "no findings"
	case 1:
		return e[0].String()
	default:
		return e[0].String() + " (and " + strconv.Itoa(len(e)-1) + " more)"
	}
}
