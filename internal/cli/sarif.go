package cli

import (
	"encoding/json"
	"fmt"
	"path/filepath"

	"stavren.example/stavren"
	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// sarifSchema is the address of the format's schema.
const sarifSchema = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"

// The objects of SARIF 2.1.0 that a report needs. Sections refer to its text.
type (
	sarifLog struct { // 3.13
		Version string     `json:"version"`
		Schema  string     `json:"$schema"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct { // 3.14
		Tool    sarifTool     `json:"tool"`
		Results []sarifResult `json:"results"`
	}
	sarifTool struct { // 3.18
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct { // 3.19
		Name           string      `json:"name"`
		InformationURI string      `json:"informationUri"`
		Rules          []sarifRule `json:"rules"`
	}
	sarifRule struct { // 3.49
		ID               string       `json:"id"`
		ShortDescription sarifMessage `json:"shortDescription"`
		HelpURI          string       `json:"helpUri,omitempty"`
	}
	sarifResult struct { // 3.27
		RuleID           string          `json:"ruleId"`
		RuleIndex        int             `json:"ruleIndex"`
		Level            string          `json:"level"`
		Message          sarifMessage    `json:"message"`
		Locations        []sarifLocation `json:"locations"`
		RelatedLocations []sarifLocation `json:"relatedLocations,omitempty"`
	}
	sarifLocation struct { // 3.28
		PhysicalLocation sarifPhysicalLocation `json:"physicalLocation"`
		Message          *sarifMessage         `json:"message,omitempty"`
	}
	sarifPhysicalLocation struct { // 3.29
		ArtifactLocation sarifArtifactLocation `json:"artifactLocation"`
		Region           *sarifRegion          `json:"region,omitempty"`
	}
	sarifArtifactLocation struct { // 3.4
		URI string `json:"uri"`
	}
	sarifRegion struct { // 3.30
		StartLine   int `json:"startLine"`
		StartColumn int `json:"startColumn,omitempty"`
	}
	sarifMessage struct { // 3.11
		Text string `json:"text"`
	}
)

// sarifLevel returns the level for a severity (SARIF 2.1.0, 3.27.10).
func sarifLevel(severity finding.Severity) string {
	switch severity {
	case finding.Error:
		return "error"
	case finding.Warning:
		return "warning"
	}
	return "note"
}

// sarifReport turns findings into SARIF 2.1.0, together with their rules.
func sarifReport(findings []finding.Finding) sarifLog {
	book := map[string]finding.Rule{}
	for _, rule := range stavren.Rules() {
		book[rule.Name] = rule
	}
	driver := sarifDriver{Name: "stavren", InformationURI: "https://stavren.example", Rules: []sarifRule{}}
	run := sarifRun{Results: []sarifResult{}}
	indexes := map[string]int{}
	for _, found := range findings {
		index, listed := indexes[found.Rule]
		if !listed {
			index = len(driver.Rules)
			indexes[found.Rule] = index
			driver.Rules = append(driver.Rules, sarifRule{
				ID: found.Rule, ShortDescription: sarifMessage{book[found.Rule].Why}, HelpURI: found.Help(),
			})
		}
		text := found.Message
		if found.Remedy != "" {
			text += ". Remedy: " + found.Remedy
		}
		result := sarifResult{
			RuleID: found.Rule, RuleIndex: index, Level: sarifLevel(found.Severity),
			Message: sarifMessage{text}, Locations: []sarifLocation{sarifLocationOf(found.Place)},
		}
		for _, related := range found.Related {
			location := sarifLocationOf(related.Place)
			location.Message = &sarifMessage{related.Note}
			result.RelatedLocations = append(result.RelatedLocations, location)
		}
		run.Results = append(run.Results, result)
	}
	run.Tool.Driver = driver
	return sarifLog{Version: "2.1.0", Schema: sarifSchema, Runs: []sarifRun{run}}
}

func sarifLocationOf(place fleet.Place) sarifLocation {
	var location sarifLocation
	location.PhysicalLocation.ArtifactLocation.URI = filepath.ToSlash(place.File)
	if place.IsValid() {
		location.PhysicalLocation.Region = &sarifRegion{StartLine: int(place.Line), StartColumn: int(place.Column)}
	}
	return location
}

func (s *session) printSARIF(findings []finding.Finding) error {
	text, err := json.MarshalIndent(sarifReport(findings), "", "  ")
	if err != nil {
		return fmt.Errorf("writing SARIF: %w", err)
	}
	return s.writeJSON(append(text, '\n'))
}
