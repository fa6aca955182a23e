package stavren_test

import (
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"stavren.example/stavren"
	"stavren.example/stavren/check"
	"stavren.example/stavren/finding"
)

// needsOf loads an example of a target's rule and returns what the target that
// its first line names finds.
func needsOf(t *testing.T, text string) []finding.Finding {
	t.Helper()
	const name = "example.stavren.yaml"
	first, _, _ := strings.Cut(text, "\n")
	target, err := stavren.Target(strings.TrimPrefix(first, "# for "))
	if err != nil {
		t.Fatal(err)
	}
	f, err := stavren.Load(t.Context(), fstest.MapFS{name: {Data: []byte(text)}}, name, stavren.LoadOptions{})
	if err != nil {
		t.Fatalf("%v\n%v", err, stavren.Findings(err))
	}
	needs, err := stavren.Needs(target, f)
	if err != nil {
		t.Fatal(err)
	}
	return needs
}

// TestTargetRuleExamples checks that targets report rules for their examples.
func TestTargetRuleExamples(t *testing.T) {
	for _, rule := range check.TargetRules() {
		t.Run(rule.Name, func(t *testing.T) {
			if rule.Why == "" || !strings.HasSuffix(rule.Why, ".") {
				t.Errorf("why: %q", rule.Why)
			}
			found := needsOf(t, rule.Wrong)
			at := slices.IndexFunc(found, func(f finding.Finding) bool { return f.Rule == rule.Name })
			if at < 0 {
				t.Fatalf("not found in the wrong example: %v", found)
			}
			f := found[at]
			if f.Severity != rule.Severity || f.Remedy == "" || f.Path == "" {
				t.Errorf("found as %+v", f)
			}
			if found := needsOf(t, rule.Right); len(found) != 0 {
				t.Errorf("found in the right example: %v", found)
			}
		})
	}
}

// TestNeedsAreInTheBook checks that everything that targets report about the demo and
// the examples is in the rule book, with the same severity.
func TestNeedsAreInTheBook(t *testing.T) {
	book := map[string]finding.Severity{}
	for _, rule := range stavren.Rules() {
		if _, twice := book[rule.Name]; twice {
			t.Errorf("the rule %s is in the book twice", rule.Name)
		}
		book[rule.Name] = rule.Severity
	}
	for _, target := range stavren.Targets() {
		for _, rule := range check.TargetRules() {
			_, rest, _ := strings.Cut(rule.Wrong, "\n")
			for _, found := range needsOf(t, "# for "+target.Name+"\n"+rest) {
				if severity, known := book[found.Rule]; !known || severity != found.Severity {
					t.Errorf("%s reports %v, which is not in the book as such", target.Name, found)
				}
			}
		}
	}
}

// TestNeedsCanBeAccepted checks that accept silences warnings of targets, but no
// errors.
func TestNeedsCanBeAccepted(t *testing.T) {
	for _, rule := range check.TargetRules() {
		found := needsOf(t, rule.Wrong+"accept: {"+rule.Name+": A test}\n")
		silent := !slices.ContainsFunc(found, func(f finding.Finding) bool { return f.Rule == rule.Name })
		if silent == (rule.Severity == finding.Error) {
			t.Errorf("%s, %v: silenced %v", rule.Name, rule.Severity, silent)
		}
	}
}
