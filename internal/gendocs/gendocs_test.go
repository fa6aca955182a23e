package gendocs_test

import (
	"flag"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"stavren.example/stavren/internal/gendocs"
)

var update = flag.Bool("update", false, "rewrite the generated pages")

// TestPagesAreFresh fails if a page differs from what the code gives.
func TestPagesAreFresh(t *testing.T) {
	language, err := os.ReadFile("../../docs/language.md")
	if err != nil {
		t.Fatal(err)
	}
	withFacts, err := gendocs.Facts(string(language))
	if err != nil {
		t.Fatal(err)
	}
	spliced, err := gendocs.Splice(withFacts, gendocs.Keys())
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"language.md": spliced, "rules.md": gendocs.Rules(),
		"targets.md": gendocs.Targets(), "systems.md": gendocs.Systems()} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join("../../docs", name)
			if *update {
				if err := os.WriteFile(path, []byte(want), 0o644); err != nil {
					t.Fatal(err)
				}
				return
			}
			if got, err := os.ReadFile(path); err != nil || string(got) != want {
				t.Errorf("%s is stale (%v); go test ./internal/gendocs -update rewrites it", name, err)
			}
		})
	}
}

var link = regexp.MustCompile(`\]\(([^)#]+)(#[^)]*)?\)`)

// TestLinks fails if a page links to a file that doesn't exist.
func TestLinks(t *testing.T) {
	files, err := filepath.Glob("../../*.md")
	if err != nil {
		t.Fatal(err)
	}
	docs, err := filepath.Glob("../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range append(files, docs...) {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, match := range link.FindAllStringSubmatch(string(data), -1) {
			if strings.Contains(match[1], "://") {
				continue
			}
			if _, err := os.Stat(filepath.Join(filepath.Dir(file), match[1])); err != nil {
				t.Errorf("%s links to %s, which is not there", file, match[1])
			}
		}
	}
}
