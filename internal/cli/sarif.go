package cli

import (
	"fmt"
	"io"
	"path/filepath"

	"github.com/owenrumney/go-sarif/v3/pkg/report"
	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"

	"stavren.example/stavren"
	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// sarifSchema is the address of the format's schema.
const sarifSchema = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"

// sarifLevel returns the level for a severity (SARIF 2.1.0, 3.27.10).
var sarifLevels = map[finding.Severity]string{finding.Error: "error", finding.Warning: "warning", finding.Advice: "note"}

// sarifReport turns findings into SARIF 2.1.0, together with their rules.
func sarifReport(findings []finding.Finding) *sarif.Report {
	out := report.NewV210Report()
	out.Schema = sarifSchema
	run := sarif.NewRunWithInformationURI("stavren", "https://stavren.example")
	book := map[string]finding.Rule{}
	for _, rule := range stavren.Rules() {
		book[rule.Name] = rule
	}
	for _, found := range findings {
		run.AddRule(found.Rule).WithDescription(book[found.Rule].Why)
		text := found.Message
		if found.Remedy != "" {
			text += ". Remedy: " + found.Remedy
		}
		result := run.CreateResultForRule(found.Rule).WithLevel(sarifLevels[found.Severity]).WithMessage(sarif.NewTextMessage(text))
		result.AddLocation(sarifLocation(found.Place))
		for _, related := range found.Related {
			result.AddRelatedLocation(sarifLocation(related.Place).WithMessage(sarif.NewTextMessage(related.Note)))
		}
	}
	return out.AddRun(run)
}

func sarifLocation(place fleet.Place) *sarif.Location {
	physical := sarif.NewPhysicalLocation().WithArtifactLocation(sarif.NewSimpleArtifactLocation(filepath.ToSlash(place.File)))
	if place.IsValid() {
		physical.WithRegion(sarif.NewSimpleRegion(int(place.Line), int(place.Line)).WithStartColumn(int(place.Column)))
	}
	return sarif.NewLocationWithPhysicalLocation(physical)
}

func printSARIF(out io.Writer, findings []finding.Finding) error {
	if err := sarifReport(findings).PrettyWrite(out); err != nil {
		return fmt.Errorf("writing SARIF: %w", err)
	}
	return nil
}
