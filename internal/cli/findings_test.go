package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"

	"stavren.example/stavren"
	"stavren.example/stavren/examples"
	"stavren.example/stavren/finding"
)

// faultyFleet returns the findings of the faulty examples.
func faultyFleet(t *testing.T) []finding.Finding {
	t.Helper()
	f, err := stavren.Load(t.Context(), examples.TideOffice(), "rough-seas.stavren.yaml", stavren.LoadOptions{})
	if err != nil {
		t.Fatal(err)
	}
	findings, err := stavren.Check(t.Context(), stavren.CheckOptions{}, f)
	if err != nil {
		t.Fatal(err)
	}
	_, err = stavren.Load(t.Context(), examples.TideOffice(), "rougher-seas.stavren.yaml", stavren.LoadOptions{})
	return append(findings, stavren.Findings(err)...)
}

// TestSARIF reads the report of the faulty fleet back with another program's reader,
// and validates it against the format's own schema.
func TestSARIF(t *testing.T) {
	findings := faultyFleet(t)
	var out bytes.Buffer
	if err := newSession(nil, &out, nil, nil, "").printSARIF(findings); err != nil {
		t.Fatal(err)
	}
	read, err := sarif.FromBytes(out.Bytes())
	if err != nil {
		t.Fatal(err)
	}
	// The reader treats absent values as empty; the format has defaults for them.
	for _, run := range read.Runs {
		run.Language, run.Tool.Driver.Language = "en-US", "en-US"
		run.NewlineSequences = []string{"\n"}
	}
	if err := read.Validate(); err != nil {
		t.Error(err)
	}
	if read.Version != "2.1.0" || len(read.Runs) != 1 || len(read.Runs[0].Results) != len(findings) {
		t.Fatalf("version %q, %d runs", read.Version, len(read.Runs))
	}
	rules := read.Runs[0].Tool.Driver.Rules
	for i, result := range read.Runs[0].Results {
		found := findings[i]
		rule := rules[result.RuleIndex]
		physical := result.Locations[0].PhysicalLocation
		if *result.RuleID != found.Rule || *rule.ID != found.Rule {
			t.Errorf("result %d has rule %s, index %d; want %s", i, *result.RuleID, result.RuleIndex, found.Rule)
		}
		if *rule.HelpURI != "https://stavren.example/docs/rules.md#"+found.Rule {
			t.Errorf("rule %s has help at %s", found.Rule, *rule.HelpURI)
		}
		if *physical.ArtifactLocation.URI != found.Place.File || !sameRegion(physical.Region, found) {
			t.Errorf("result %d is at %+v, the finding at %s", i, physical, found.Place)
		}
		if len(result.RelatedLocations) != len(found.Related) {
			t.Errorf("result %d has %d related locations, the finding %d", i, len(result.RelatedLocations),
				len(found.Related))
		}
	}
	var empty bytes.Buffer
	if err := newSession(nil, &empty, nil, nil, "").printSARIF(nil); err != nil ||
		!bytes.Contains(empty.Bytes(), []byte(`"results": []`)) {
		t.Errorf("no findings: %v\n%s", err, &empty)
	}
}

func sameRegion(region *sarif.Region, found finding.Finding) bool {
	if region == nil {
		return !found.Place.IsValid()
	}
	return *region.StartLine == int(found.Place.Line) && *region.StartColumn == int(found.Place.Column)
}

// TestJSONFindings reads the JSON report of the faulty fleet back, and compares every
// field with the findings.
func TestJSONFindings(t *testing.T) {
	findings := faultyFleet(t)
	var out bytes.Buffer
	if err := newSession(nil, &out, nil, nil, "").printJSON(jsonFindings(findings)); err != nil {
		t.Fatal(err)
	}
	var read struct {
		Findings []struct {
			Rule, Severity, File, Path, Message, Remedy, Help string
			Line, Column                                      int32
			Related                                           []struct {
				File, Note   string
				Line, Column int32
			}
		}
		Errors, Warnings, Advice int
	}
	decoder := json.NewDecoder(&out)
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&read); err != nil {
		t.Fatal(err)
	}
	errors, warnings, advice := finding.Count(findings)
	if read.Errors != errors || read.Warnings != warnings || read.Advice != advice {
		t.Errorf("counts %d, %d, %d; want %d, %d, %d", read.Errors, read.Warnings, read.Advice, errors, warnings,
			advice)
	}
	if len(read.Findings) != len(findings) {
		t.Fatalf("%d findings, want %d", len(read.Findings), len(findings))
	}
	for i, got := range read.Findings {
		want := findings[i]
		if got.Rule != want.Rule || got.Severity != want.Severity.String() || got.Path != want.Path ||
			got.Message != want.Message || got.Remedy != want.Remedy || got.Help != want.Help() {
			t.Errorf("finding %d is\n%+v, want\n%+v", i, got, want)
		}
		if got.File != want.Place.File || got.Line != want.Place.Line || got.Column != want.Place.Column {
			t.Errorf("finding %d is at %s:%d:%d, want %s", i, got.File, got.Line, got.Column, want.Place)
		}
		if len(got.Related) != len(want.Related) {
			t.Errorf("finding %d has %d related places, want %d", i, len(got.Related), len(want.Related))
			continue
		}
		for j, related := range got.Related {
			if place := want.Related[j].Place; related.Note != want.Related[j].Note || related.File != place.File ||
				related.Line != place.Line || related.Column != place.Column {
				t.Errorf("finding %d, related %d is %+v, want %+v", i, j, related, want.Related[j])
			}
		}
	}
}

// TestHelpAnchors checks that every rule's address leads to a section of the page.
func TestHelpAnchors(t *testing.T) {
	page := readDocs(t, "rules.md")
	for _, rule := range stavren.Rules() {
		if !bytes.Contains(page, []byte("\n### "+rule.Name+"\n")) {
			t.Errorf("docs/rules.md has no section %q, which %s refers to", rule.Name, rule.Help())
		}
	}
}

func readDocs(t *testing.T, name string) []byte {
	t.Helper()
	page, err := os.ReadFile(filepath.Join("..", "..", "docs", name))
	if err != nil {
		t.Fatal(err)
	}
	return page
}
