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
	"fleet":                      {},
	"finding":                    {"fleet"},
	"check":                      {"finding", "fleet", "internal/catalog", "internal/nearest"},
	"render":                     {"finding", "fleet", "internal/catalog", "internal/nearest"},
	"internal/nearest":           {},
	"internal/quote":             {},
	"internal/catalog":           {"fleet"},
	"internal/source":            {"finding", "fleet", "internal/nearest"},
	"internal/reach":             {"fleet"},
	"internal/localfiles":        {"fleet"},
	"internal/outfolder":         {},
	"internal/hostfacts":         {"fleet", "internal/localfiles"},
	"internal/targets/cloudinit": {"finding", "fleet", "internal/catalog", "internal/quote", "internal/yamltext", "render"},
	"internal/targets/seed":      {"fleet", "internal/catalog", "internal/quote", "internal/targets/cloudinit", "render"},
	"internal/targets/qemu":      {"finding", "fleet", "internal/catalog", "internal/quote", "internal/targets/cloudinit", "internal/targets/seed", "render"},
	".": {"check", "finding", "fleet", "internal/catalog", "internal/outfolder", "internal/nearest", "internal/sizing", "internal/reach", "internal/source",
		"internal/targets/...", "render"},
	"internal/golden":        {"examples", "fleet", "internal/source", "render"},
	"internal/seedserver":    {"fleet", "render"},
	"internal/yamltext":      {},
	"internal/ordered":       {"internal/yamltext"},
	"internal/sizing":        {"fleet", "internal/catalog", "internal/nearest"},
	"internal/targets/cloud": {"finding", "fleet", "internal/catalog", "internal/sizing", "internal/targets/cloudinit", "render"},
	"internal/targets/heat":  cloudTarget, "internal/targets/cloudformation": cloudTarget, "internal/targets/arm": cloudTarget,
	"internal/targets/gce": cloudTarget, "internal/targets/oci": cloudTarget, "internal/targets/droplet": cloudTarget,
	"internal/xmldoc":          {},
	"internal/targets/libvirt": {"finding", "fleet", "internal/catalog", "internal/quote", "internal/targets/cloudinit", "internal/targets/seed", "internal/xmldoc", "render"},
	"internal/targets/ovf":     {"finding", "fleet", "internal/catalog", "internal/quote", "internal/targets/cloudinit", "internal/targets/seed", "internal/xmldoc", "render"},
	"internal/targets/bhyve":   {"finding", "fleet", "internal/catalog", "internal/quote", "internal/targets/cloudinit", "internal/targets/seed", "render"},
	"internal/gendocs":         {".", "internal/catalog", "render"},
	"internal/cli":             {".", "examples", "finding", "fleet", "internal/hostfacts", "internal/localfiles", "internal/nearest", "internal/outfolder", "internal/seedserver", "internal/starter", "render"},
	"internal/starter":         {},
	"examples":                 {},
	"internal/benchfleet":      {},
	"cmd/stavren":              {"internal/cli"},
}

// cloudTarget is what targets for clouds share.
var cloudTarget = []string{"finding", "fleet", "internal/catalog", "internal/ordered", "internal/quote", "internal/targets/cloud", "internal/targets/cloudinit", "render"}

// forbidden are packages of the standard library that only the outer packages
// may use: the core opens no socket, runs no program and reads no clock.
var forbidden = map[string][]string{
	"net":      {"internal/hostfacts", "internal/cli"},
	"net/http": {"internal/seedserver", "internal/cli"},
	"os/exec":  {"internal/hostfacts"},
	"os":       {"internal/hostfacts", "internal/localfiles", "internal/outfolder", "internal/cli", "cmd/stavren", "internal/targets/seed", "internal/golden"},
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
