package check

import (
	"embed"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/rulebook"
)

// rule is one entry of the rule book. Exactly one of machine, fleet and together
// is set, except for rules that targets report, which have none.
type rule struct {
	name     string
	severity finding.Severity
	theme    string
	// machine looks at one machine, fleet at one fleet, and together at all fleets.
	machine  func(r reporter, f *fleet.Fleet, m *fleet.Machine)
	fleet    func(r reporter, f *fleet.Fleet)
	together func(t together)
}

// The three forms of rules, for the lists of the themes.

func ofMachine(name string, severity finding.Severity, look func(reporter, *fleet.Fleet, *fleet.Machine)) rule {
	return rule{name: name, severity: severity, machine: look}
}

func ofFleet(name string, severity finding.Severity, look func(reporter, *fleet.Fleet)) rule {
	return rule{name: name, severity: severity, fleet: look}
}

func ofAllFleets(name string, severity finding.Severity, look func(together)) rule {
	return rule{name: name, severity: severity, together: look}
}

// Themes whose rules are treated differently from others.
const (
	firstBoot   = "first boot"
	bookkeeping = "bookkeeping"
	targets     = "targets"
)

// book returns every rule, theme by theme. Within a theme, rules are in the order
// in which a person would look for the cause.
func book() []rule {
	var book []rule
	for _, theme := range []struct {
		name  string
		rules []rule
	}{
		{"names", nameRules()},
		{"images", imageRules()},
		{"resources", resourceRules()},
		{"limits", limitRules()},
		{"disks", diskRules()},
		{"shares", shareRules()},
		{"networks", networkRules()},
		{"ports", portRules()},
		{"firewall", firewallRules()},
		{"keys", keyRules()},
		{"users", userRules()},
		{firstBoot, firstBootRules()},
		{"console", consoleRules()},
		{"firmware", firmwareRules()},
		{"this host", thisHostRules()},
		{bookkeeping, bookkeepingRules()},
		{targets, targetRules()},
	} {
		for _, rule := range theme.rules {
			rule.theme = theme.name
			book = append(book, rule)
		}
	}
	return book
}

//go:embed rules
var documentation embed.FS

// facts are the values of names in braces within the texts of rules.
func facts() *strings.Replacer {
	return strings.NewReplacer(
		"{auto ports}", fmt.Sprintf("%d to %d", fleet.FirstAutoPort, fleet.LastAutoPort),
		"{outgoing ports}", fmt.Sprintf("%d to %d", fleet.FirstOutgoingPort, fleet.LastOutgoingPort),
		"{windows name length}", strconv.Itoa(windowsNameLength),
		"{days before end of support}", strconv.Itoa(daysBeforeEnd),
		"{shortest prefix}", strconv.Itoa(shortestPrefix),
		"{longest prefix}", strconv.Itoa(longestPrefix),
		"{shortest RSA key}", strconv.Itoa(shortestRSA),
	)
}

// Rules returns the rules that [Run] applies, in the order of their themes.
func Rules() []finding.Rule {
	return documented(func(r rule) bool { return r.theme != targets })
}

// TargetRules returns the rules that targets report before rendering. Their
// examples name the target in a comment on the first line.
func TargetRules() []finding.Rule {
	return documented(func(r rule) bool { return r.theme == targets })
}

func documented(chosen func(rule) bool) []finding.Rule {
	var rules []finding.Rule
	facts := facts()
	for _, r := range book() {
		if chosen(r) {
			folder := path.Join("rules", strings.ReplaceAll(r.theme, " ", "_"))
			rules = append(rules, rulebook.Read(documentation, folder,
				finding.Rule{Name: r.name, Severity: r.severity, Theme: r.theme}, facts))
		}
	}
	return rules
}

// lookUp returns the rule of that name.
func (r *run) lookUp(name string) (rule, bool) {
	at := slices.IndexFunc(r.book, func(r rule) bool { return r.name == name })
	if at < 0 {
		return rule{}, false
	}
	return r.book[at], true
}
