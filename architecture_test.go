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

// mayImport says which packages of this module each package may import, as
// docs/architecture.md draws it. A folder ending in /... stands for all below.
var mayImport = map[string][]string{
	"fleet":                     {},
	"finding":                   {"fleet"},
	"check":                     {"finding", "fleet", "internal/catalog", "internal/nearest"},
	"render":                    {"finding", "fleet", "internal/catalog", "internal/nearest"},
	"internal/nearest":          {},
	"internal/quote":            {},
	"internal/catalog":          {"fleet"},
	"internal/source":           {"finding", "fleet", "internal/nearest"},
	"internal/reach":            {"fleet"},
	"internal/host":             {"fleet"},
	"internal/target/cloudinit": {"finding", "fleet", "internal/catalog", "internal/quote", "internal/yamltext", "render"},
	"internal/target/seed":      {"fleet", "internal/catalog", "internal/quote", "internal/target/cloudinit", "render"},
	"internal/target/qemu":      {"finding", "fleet", "internal/catalog", "internal/quote", "internal/target/cloudinit", "internal/target/seed", "render"},
	".": {"check", "finding", "fleet", "internal/catalog", "internal/host", "internal/nearest", "internal/offer", "internal/reach", "internal/source",
		"internal/target/...", "render"},
	"internal/golden":       {"examples", "fleet", "internal/source", "render"},
	"internal/seedserver":   {"fleet", "render"},
	"internal/yamltext":     {},
	"internal/ordered":      {"internal/yamltext"},
	"internal/offer":        {"fleet", "internal/catalog", "internal/nearest"},
	"internal/target/cloud": {"finding", "fleet", "internal/catalog", "internal/offer", "internal/target/cloudinit", "render"},
	"internal/target/heat":  cloudTarget, "internal/target/cloudformation": cloudTarget, "internal/target/arm": cloudTarget,
	"internal/target/gce": cloudTarget, "internal/target/oci": cloudTarget, "internal/target/droplet": cloudTarget,
	"internal/xmldoc":         {},
	"internal/target/libvirt": {"finding", "fleet", "internal/catalog", "internal/quote", "internal/target/cloudinit", "internal/target/seed", "internal/xmldoc", "render"},
	"internal/target/ovf":     {"finding", "fleet", "internal/catalog", "internal/quote", "internal/target/cloudinit", "internal/target/seed", "internal/xmldoc", "render"},
	"internal/target/bhyve":   {"finding", "fleet", "internal/catalog", "internal/quote", "internal/target/cloudinit", "internal/target/seed", "render"},
	"internal/pages":          {".", "internal/catalog", "render"},
	"internal/cli":            {".", "examples", "finding", "fleet", "internal/host", "internal/nearest", "internal/seedserver", "internal/starter", "render"},
	"internal/starter":        {},
	"examples":                {},
	"internal/harbour":        {},
	"cmd/stavren":             {"internal/cli"},
}

// cloudTarget is what targets for clouds share.
var cloudTarget = []string{"finding", "fleet", "internal/catalog", "internal/ordered", "internal/quote", "internal/target/cloud", "internal/target/cloudinit", "render"}

// forbidden are packages of the standard library that only the outer packages
// may use: the core opens no socket, runs no program and reads no clock.
var forbidden = map[string][]string{
	"net":      {"internal/host", "internal/cli"},
	"net/http": {"internal/seedserver", "internal/cli"},
	"os/exec":  {"internal/host"},
	"os":       {"internal/host", "internal/cli", "cmd/stavren", "internal/target/seed", "internal/golden"},
}

// TestImports fails when an import runs against the arrows of the architecture.
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
		allowed, known := mayImport[folder]
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
			if users, is := forbidden[name]; is && !contains(users, folder) {
				// The address types of net are no socket, but reach alone needs one.
				if !(name == "net" && folder == "internal/reach") {
					t.Errorf("%s imports %s", file, name)
				}
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
				t.Errorf("%s imports %s, which is not left of it", file, inner)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for folder := range mayImport {
		if !seen[folder] {
			t.Errorf("there is no package %s any more", folder)
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
