package cli

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// TestExcerpts looks for places in long and short lines, in and beyond them.
func TestExcerpts(t *testing.T) {
	folder := t.TempDir()
	long := strings.Repeat("é", 70000) + "X" + strings.Repeat("y", 70000)
	if err := os.WriteFile(filepath.Join(folder, "f"), []byte("short\r\n"+long+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	sources := &sourceLines{session: newSession(nil, nil, nil, nil, folder), files: map[string][][]byte{}}
	for _, c := range []struct {
		line, column int32
		want         string
		at           int
	}{
		{1, 1, "short", 0}, {1, 6, "short", 5}, {1, 90, "short", 5}, {1, -3, "short", 0},
		{2, 1, strings.Repeat("é", 110) + "…", 0},
		{2, 70001, "…" + strings.Repeat("é", 55) + "X" + strings.Repeat("y", 54) + "…", 56},
		{2, 3, strings.Repeat("é", 110) + "…", 2},
		{2, 1 << 30, "…" + strings.Repeat("y", 55), 56},
	} {
		t.Run(fmt.Sprint(c.line, " ", c.column), func(t *testing.T) {
			got, at, ok := sources.excerpt(fleet.Place{File: "f", Line: c.line, Column: c.column})
			if !ok || got != c.want || at != c.at {
				t.Errorf("got %q with the caret at %d, %v\nwant %q with the caret at %d", got, at, ok, c.want, c.at)
			}
		})
	}
	if _, _, ok := sources.excerpt(fleet.Place{File: "f", Line: 9, Column: 1}); ok {
		t.Error("line 9 of 3 has an excerpt")
	}
}

// TestManyFindings prints more findings than a person reads: all errors are among them.
func TestManyFindings(t *testing.T) {
	var findings []finding.Finding
	for i := range 3000 {
		severity := finding.Advice
		if i%300 == 299 {
			severity = finding.Error
		}
		findings = append(findings, finding.Finding{Rule: fmt.Sprint("r", i), Severity: severity, Message: "m"})
	}
	var out bytes.Buffer
	s := newSession(nil, &out, nil, nil, t.TempDir())
	s.printFindings(s.stdout, findings)
	text := out.String()
	if errors, advice := strings.Count(text, "error: r"), strings.Count(text, "advice: r"); errors != 10 || advice != 490 {
		t.Errorf("%d errors, %d pieces of advice", errors, advice)
	}
	if !strings.Contains(text, "\n2500 more findings are not listed here; check --format lines lists all\n") {
		t.Errorf("the end is %q", text[len(text)-200:])
	}
}
