package finding_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"testing"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

func at(file string, line, column int32, rule string, severity finding.Severity) finding.Finding {
	return finding.Finding{Rule: rule, Severity: severity,
		Location: finding.Location{Place: fleet.Place{File: file, Line: line, Column: column}}, Message: "m"}
}

func TestSort(t *testing.T) {
	sorted := finding.Sort([]finding.Finding{
		at("b", 1, 1, "r", finding.Error), at("a", 2, 1, "r", finding.Error), at("a", 1, 9, "r", finding.Error),
		at("a", 1, 2, "s", finding.Advice), at("a", 1, 2, "t", finding.Error), at("a", 2, 1, "r", finding.Error),
		at("a", 1, 2, "r", finding.Error),
	})
	want := []string{"a:1:2: error: r: m", "a:1:2: error: t: m", "a:1:2: advice: s: m", "a:1:9: error: r: m",
		"a:2:1: error: r: m", "b:1:1: error: r: m"}
	if len(sorted) != len(want) {
		t.Fatalf("%d findings: %v", len(sorted), sorted)
	}
	for i := range want {
		if sorted[i].String() != want[i] {
			t.Errorf("%d: got %v, want %s", i, sorted[i], want[i])
		}
	}
}

func TestErrors(t *testing.T) {
	for _, c := range []struct {
		errs finding.Errors
		want string
	}{
		{finding.Errors{}, "no findings"},
		{finding.Errors{at("a", 1, 1, "r", finding.Error)}, "a:1:1: error: r: m"},
		{finding.Errors{at("a", 1, 1, "r", finding.Error), {Rule: "s"}, {Rule: "t"}},
			"a:1:1: error: r: m (and 2 more)"},
	} {
		t.Run(c.want, func(t *testing.T) {
			if got := c.errs.Error(); got != c.want {
				t.Errorf("got %q, want %q", got, c.want)
			}
		})
	}
	var found finding.Errors
	if err := fmt.Errorf("loading: %w", finding.Errors{{Rule: "r"}}); !errors.As(err, &found) || len(found) != 1 {
		t.Error("the findings are lost when the error is wrapped")
	}
}

// TestSortKeepsTheMostSevere checks that one cause is reported once, with its highest
// severity.
func TestSortKeepsTheMostSevere(t *testing.T) {
	got := finding.Sort([]finding.Finding{at("a", 1, 1, "r", finding.Warning), at("a", 1, 1, "s", finding.Error),
		at("a", 1, 1, "r", finding.Error), at("a", 1, 2, "r", finding.Warning)})
	if len(got) != 3 || got[0].Rule != "r" || got[0].Severity != finding.Error || got[1].Rule != "s" ||
		got[2].Place.Column != 2 {
		t.Errorf("got %v", got)
	}
}

func TestSeverity(t *testing.T) {
	errs, warnings, advice := finding.Count([]finding.Finding{{Severity: finding.Error}, {Severity: finding.Warning},
		{Severity: finding.Warning}, {Severity: finding.Advice}})
	if errs != 1 || warnings != 2 || advice != 1 {
		t.Errorf("counted %d, %d, %d", errs, warnings, advice)
	}
	text, err := json.Marshal([]finding.Severity{finding.Error, finding.Warning, finding.Advice})
	if err != nil || string(text) != `["error","warning","advice"]` {
		t.Errorf("JSON %s, %v", text, err)
	}
	if lone := (finding.Finding{Rule: "r", Message: "m"}); lone.String() != "error: r: m" {
		t.Errorf("without a place: %q", lone.String())
	}
}
