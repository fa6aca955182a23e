package stavren_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

const module = "stavren.example/stavren"

// mayImport lists the packages of this module that each package may import, as
// docs/architecture.md draws it. A folder ending in /... stands for all below.
// Targets may all import the same.
var mayImport = map[string][]string{
	// Nouns, and what is said of them.
	"fleet":   {},
	"finding": {"fleet"},
	// Data and small tools.
	"internal/catalog":    {"fleet"},
	"internal/nearest":    {},
	"internal/quote":      {},
	"internal/yamltext":   {},
	"internal/xmldoc":     {},
	"internal/ordered":    {"internal/yamltext"},
	"internal/rulebook":   {"finding"},
	"internal/textdiff":   {},
	"internal/benchfleet": {},
	"internal/starter":    {},
	"examples":            {},
	// Reading.
	"internal/document": {"finding", "fleet", "internal/rulebook"},
	"internal/language": {"fleet", "internal/catalog", "internal/document", "internal/nearest"},
	"internal/load":     {"finding", "fleet", "internal/document", "internal/language", "internal/nearest"},
	// Checking and rendering.
	"check":            {"finding", "fleet", "internal/catalog", "internal/nearest", "internal/rulebook"},
	"render":           {"finding", "fleet", "internal/nearest"},
	"internal/sizing":  {"fleet", "internal/catalog", "internal/nearest"},
	"internal/reach":   {"fleet"},
	"internal/targets": {"internal/targets/...", "render"},
	// This computer.
	"internal/localfiles": {"fleet"},
	"internal/outfolder":  {},
	"internal/hostfacts":  {"fleet", "internal/localfiles"},
	"internal/seedserver": {"fleet", "render"},
	// The library, and what is built on it.
	".": {"check", "finding", "fleet", "internal/catalog", "internal/document", "internal/language", "internal/load",
		"internal/nearest", "internal/outfolder", "internal/reach", "internal/sizing", "internal/targets", "render"},
	"internal/golden": {"examples", "fleet", "internal/load", "internal/textdiff", "render"},
	"internal/gendocs": {".", "fleet", "internal/catalog", "internal/load", "internal/targets",
		"internal/targets/hypervisor", "render"},
	"internal/cli": {".", "examples", "finding", "fleet", "internal/hostfacts", "internal/localfiles",
		"internal/nearest",
		"internal/outfolder", "internal/seedserver", "internal/starter", "render"},
	"cmd/stavren":             {"internal/cli"},
	"internal/bounds/counter": {"."}, // for a test
}

// targetMayImport is what every package below internal/targets may import.
var targetMayImport = []string{
	"finding", "fleet", "render", "internal/catalog", "internal/nearest", "internal/ordered", "internal/quote", "internal/sizing",
	"internal/xmldoc", "internal/yamltext",
	"internal/targets/cloud", "internal/targets/cloudinit", "internal/targets/firewall", "internal/targets/hypervisor",
	"internal/targets/seed",
}

// importsOf returns what a package may import, and whether it is part of the
// architecture.
func importsOf(folder string) ([]string, bool) {
	if strings.HasPrefix(folder, "internal/targets/") {
		return targetMayImport, true
	}
	allowed, ok := mayImport[folder]
	return allowed, ok
}

// forbidden lists packages of the standard library that only the outer packages may
// import: the core opens no socket, runs no program and reads no clock.
var forbidden = map[string][]string{
	"net":      {"internal/hostfacts", "internal/cli", "internal/reach", "internal/seedserver"}, // for hosts and ports
	"net/http": {"internal/seedserver", "internal/cli"},
	"os/exec":  {"internal/hostfacts"},
	"os": {"internal/hostfacts", "internal/localfiles", "internal/outfolder", "internal/cli", "cmd/stavren",
		"internal/golden", "internal/bounds/counter"},
}

// TestImports checks that no import runs against the arrows of the architecture.
func TestImports(t *testing.T) {
	seen := map[string]bool{}
	err := filepath.WalkDir(".", func(file string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return err
		}
		folder := path.Dir(filepath.ToSlash(file))
		if strings.HasPrefix(folder, "examples/") {
			return nil // programs of users
		}
		seen[folder] = true
		allowed, known := importsOf(folder)
		if !known {
			t.Errorf("package %s has no place in the architecture; add it here and to docs/architecture.md", folder)
			return nil
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, spec := range parsed.Imports {
			name, err := strconv.Unquote(spec.Path.Value)
			if err != nil {
				return err
			}
			if users, ok := forbidden[name]; ok && !contains(users, folder) {
				t.Errorf("%s imports %s, which only %v may", file, name, users)
			}
			inner, own := strings.CutPrefix(name, module)
			if !own {
				continue
			}
			inner = strings.TrimPrefix(inner, "/")
			if inner == "" {
				inner = "."
			}
			if !contains(allowed, inner) {
				t.Errorf("%s imports %s, which the architecture does not allow", file, inner)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for folder := range mayImport {
		if !seen[folder] {
			t.Errorf("the package %s no longer exists", folder)
		}
	}
}

func contains(patterns []string, folder string) bool {
	for _, pattern := range patterns {
		prefix, all := strings.CutSuffix(pattern, "/...")
		if pattern == folder || all && strings.HasPrefix(folder, prefix+"/") {
			return true
		}
	}
	return false
}
