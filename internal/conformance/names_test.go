package conformance

import (
	"fmt"
	"path"
	"strings"
	"testing"
	"testing/fstest"

	"stavren.example/stavren"
	"stavren.example/stavren/render"
)

// TestNamesDontCollide names machines, networks and disks like the files and folders of
// every target. No two files get one name, unless the target refuses the definition.
func TestNamesDontCollide(t *testing.T) {
	names := map[string]bool{"readme": true, "stavren": true, "fleet": true, "template": true}
	for _, target := range stavren.Targets() {
		for _, pattern := range target.Writes {
			for part := range strings.SplitSeq(pattern, "/") {
				stem, _, _ := strings.Cut(strings.ToLower(part), ".")
				names[strings.ReplaceAll(stem, "_", "-")] = true
			}
		}
	}
	var definition strings.Builder
	definition.WriteString("stavren: 1\nfleet: tides\nimages: {i: {os: debian-12, file: i.qcow2}}\nnetworks:\n")
	subnet := 0
	for name := range names {
		fmt.Fprintf(&definition, "  %s: {subnet: 10.44.%d.0/24}\n", name, subnet)
		subnet++
	}
	definition.WriteString("machines:\n")
	for name := range names {
		fmt.Fprintf(&definition, "  %s: {image: i, nics: {%s: {}}, disks: {%s: {size: 1GiB}}}\n", name, name, name)
	}
	const file = "tides.stavren.yaml"
	f, err := stavren.Load(t.Context(), fstest.MapFS{file: {Data: []byte(definition.String())}}, file,
		stavren.LoadOptions{})
	if err != nil {
		t.Fatal(err, stavren.Findings(err))
	}
	for _, target := range stavren.Targets() {
		t.Run(target.Name, func(t *testing.T) {
			seen := map[string]bool{}
			err := render.Stream(t.Context(), target, f, render.Options{}, func(file render.File) error {
				if seen[file.Name] && !refuses(target, f) {
					t.Errorf("two files are called %s, and nothing refuses that", file.Name)
				}
				if path.Clean(file.Name) != file.Name {
					t.Errorf("the name %q is not plain", file.Name)
				}
				seen[file.Name] = true
				return nil
			})
			if err != nil && !refuses(target, f) {
				t.Error(err)
			}
		})
	}
}
