package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"stavren.example/stavren/finding"
)

// printFindings prints findings as text: the line that editors recognise, the source
// line with a caret, other places that are involved, and the remedy.
func (s *session) printFindings(out io.Writer, findings []finding.Finding) {
	sources := sourceLines{session: s, files: map[string][][]byte{}}
	// A line that may hold a secret isn't shown for any other finding either.
	type line struct {
		file string
		line int32
	}
	secret := map[line]bool{}
	for _, found := range findings {
		if found.Secret {
			secret[line{found.Place.File, found.Place.Line}] = true
		}
	}
	listed, left := mostSevere(findings)
	group := ""
	for i, found := range byMachine(listed) {
		if i > 0 {
			fmt.Fprintln(out)
		}
		if machine := machineOf(found); machine != group {
			group = machine
			fmt.Fprintln(out, heading(group))
		}
		where := ""
		if text := found.Place.String(); text != "" {
			where = bold(text) + ": "
		}
		fmt.Fprintf(out, "%s%s: %s: %s\n", where,
			severityStyle(found.Severity), found.Rule, found.Message)
		if text, at, ok := sources.excerpt(found.Place); ok && !secret[line{found.Place.File, found.Place.Line}] {
			number := strconv.Itoa(int(found.Place.Line))
			fmt.Fprintf(out, "  %s %s\n", dim(number+" |"), text)
			fmt.Fprintf(out, "  %s %s%s\n", dim(strings.Repeat(" ", len(number))+" |"), strings.Repeat(" ", at),
				bad("^"))
		}
		for _, related := range found.Related {
			fmt.Fprintf(out, "  %s: %s\n", related.Place, related.Note)
		}
		if found.Remedy != "" {
			fmt.Fprintf(out, "  %s %s\n", good("remedy:"), found.Remedy)
		}
	}
	if left > 0 {
		fmt.Fprintf(out, "\n%s more findings are not listed here; check --format lines lists all\n", strconv.Itoa(left))
	}
}

// maxFindings is how many findings are listed for people.
const maxFindings = 500

// mostSevere returns the findings to list, in their order, and how many are left out.
func mostSevere(findings []finding.Finding) (listed []finding.Finding, left int) {
	if len(findings) <= maxFindings {
		return findings, 0
	}
	errors, warnings, advice := finding.Count(findings)
	room := map[finding.Severity]int{finding.Error: min(errors, maxFindings)}
	room[finding.Warning] = min(warnings, maxFindings-room[finding.Error])
	room[finding.Advice] = min(advice, maxFindings-room[finding.Error]-room[finding.Warning])
	for _, found := range findings {
		if room[found.Severity] > 0 {
			room[found.Severity]--
			listed = append(listed, found)
		}
	}
	return listed, len(findings) - len(listed)
}

// machineOf returns the machine whose part of the definition a finding is in, or "".
func machineOf(found finding.Finding) string {
	rest, ok := strings.CutPrefix(found.Path, "machines.")
	if !ok {
		return ""
	}
	name, _, _ := strings.Cut(rest, ".")
	return name
}

// byMachine groups findings: first those of the definition, then machine by machine
// in the order in which they first occur.
func byMachine(findings []finding.Finding) []finding.Finding {
	var order []string
	groups := map[string][]finding.Finding{"": nil}
	for _, found := range findings {
		name := machineOf(found)
		if _, known := groups[name]; !known {
			order = append(order, name)
		}
		groups[name] = append(groups[name], found)
	}
	grouped := slices.Clone(groups[""])
	for _, name := range order {
		grouped = append(grouped, groups[name]...)
	}
	return grouped
}

// summary counts findings in words.
func summary(findings []finding.Finding) string {
	errors, warnings, advice := finding.Count(findings)
	var parts []string
	for _, part := range []struct {
		count     int
		one, many string
	}{{errors, "error", "errors"}, {warnings, "warning", "warnings"}, {advice, "piece of advice", "pieces of advice"}} {
		switch part.count {
		case 0:
		case 1:
			parts = append(parts, "1 "+part.one)
		default:
			parts = append(parts, strconv.Itoa(part.count)+" "+part.many)
		}
	}
	if len(parts) == 0 {
		return "no findings"
	}
	return strings.Join(parts, ", ")
}

// jsonFinding is the form of a finding for programs.
type jsonFinding struct {
	Rule     string        `json:"rule"`
	Severity string        `json:"severity"`
	File     string        `json:"file"`
	Line     int32         `json:"line,omitempty"`
	Column   int32         `json:"column,omitempty"`
	Path     string        `json:"path,omitempty"`
	Message  string        `json:"message"`
	Remedy   string        `json:"remedy,omitempty"`
	Help     string        `json:"help"`
	Related  []jsonRelated `json:"related,omitempty"`
}

type jsonRelated struct {
	File   string `json:"file"`
	Line   int32  `json:"line,omitempty"`
	Column int32  `json:"column,omitempty"`
	Note   string `json:"note"`
}

func jsonFindings(findings []finding.Finding) any {
	list := make([]jsonFinding, 0, len(findings))
	for _, f := range findings {
		entry := jsonFinding{
			Rule: f.Rule, Severity: f.Severity.String(),
			File: f.Place.File, Line: f.Place.Line, Column: f.Place.Column,
			Path: f.Path, Message: f.Message, Remedy: f.Remedy, Help: f.Help(),
		}
		for _, related := range f.Related {
			entry.Related = append(entry.Related, jsonRelated{related.Place.File, related.Place.Line,
				related.Place.Column, related.Note})
		}
		list = append(list, entry)
	}
	errors, warnings, advice := finding.Count(findings)
	return map[string]any{"findings": list, "errors": errors, "warnings": warnings, "advice": advice}
}

// printJSON prints a value for programs. It is indented, since people look at it too.
func (s *session) printJSON(value any) error {
	var text bytes.Buffer
	encoder := json.NewEncoder(&text)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(value); err != nil {
		return err
	}
	return s.writeJSON(text.Bytes())
}

// writeJSON writes JSON to standard output. Characters that could do something to a
// terminal are written as escapes, which mean the same.
func (s *session) writeJSON(text []byte) error {
	var safe strings.Builder
	for _, char := range string(text) {
		if harmless(char) != char {
			fmt.Fprintf(&safe, "\\u%04x", char) // all of them are in the basic plane
			continue
		}
		safe.WriteRune(char)
	}
	_, err := io.WriteString(s.output, safe.String())
	return err
}
