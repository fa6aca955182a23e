package cli

import (
	"bytes"
	"encoding/json"
	"testing"

	"stavren.example/stavren"
	"stavren.example/stavren/examples"
)

// TestSARIF holds the report of the faulty fleet against the format's own schema.
func TestSARIF(t *testing.T) {
	f, err := stavren.Load(examples.TideOffice(), "rough-seas.stavren.yaml", stavren.LoadOptions{})
	if err != nil {
		t.Fatal(err)
	}
	findings := stavren.Check(stavren.CheckOptions{}, f)
	_, err = stavren.Load(examples.TideOffice(), "rougher-seas.stavren.yaml", stavren.LoadOptions{})
	findings = append(findings, stavren.Findings(err)...)
	made := sarifReport(findings)
	if err := made.Validate(); err != nil {
		t.Error(err)
	}
	var out bytes.Buffer
	if err := printSARIF(&out, findings); err != nil {
		t.Fatal(err)
	}
	var read struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct {
					Rules []struct{ ID string }
				}
			}
			Results []struct {
				RuleID, Level string
				Locations     []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn int }
					}
				}
			}
		}
	}
	if err := json.Unmarshal(out.Bytes(), &read); err != nil {
		t.Fatal(err)
	}
	if read.Version != "2.1.0" || len(read.Runs) != 1 || len(read.Runs[0].Results) != len(findings) {
		t.Fatalf("version %q, %d runs", read.Version, len(read.Runs))
	}
	for i, result := range read.Runs[0].Results {
		at := result.Locations[0].PhysicalLocation
		if result.RuleID != findings[i].Rule || at.ArtifactLocation.URI != findings[i].Place.File || at.Region.StartLine != int(findings[i].Place.Line) || at.Region.StartColumn != int(findings[i].Place.Column) {
			t.Errorf("result %d is %+v, the finding %v", i, result, findings[i])
		}
	}
	var empty bytes.Buffer
	if err := printSARIF(&empty, nil); err != nil || !bytes.Contains(empty.Bytes(), []byte(`"results": []`)) {
		t.Errorf("no findings: %v\n%s", err, &empty)
	}
}
