package stavren_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"stavren.example/stavren"
	"stavren.example/stavren/examples"
	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/benchfleet"
	"stavren.example/stavren/render"
)

// checked checks fleets, which never fails for those that have been completed.
func checked(t *testing.T, options stavren.CheckOptions, fleets ...*fleet.Fleet) []finding.Finding {
	t.Helper()
	findings, err := stavren.Check(t.Context(), options, fleets...)
	if err != nil {
		t.Fatal(err)
	}
	return findings
}

func TestTargetsAreSound(t *testing.T) {
	seen := map[string]bool{}
	for _, target := range stavren.Targets() {
		if seen[target.Name] {
			t.Errorf("two targets are called %s", target.Name)
		}
		seen[target.Name] = true
		if err := target.Validate(); err != nil {
			t.Error(err)
		}
	}
}

func TestRulesHaveOneName(t *testing.T) {
	seen := map[string]bool{}
	for _, rule := range stavren.Rules() {
		if seen[rule.Name] || rule.Name != strings.ToLower(rule.Name) ||
			strings.ContainsAny(rule.Name, " _0123456789") {
			t.Errorf("rule name %q is taken or not telling", rule.Name)
		}
		seen[rule.Name] = true
	}
}

func TestDemoIsQuiet(t *testing.T) {
	f, err := stavren.Load(t.Context(), examples.TideOffice(), "tide-office.stavren.yaml", stavren.LoadOptions{})
	if err != nil {
		t.Fatal(err)
	}
	if found := checked(t, stavren.CheckOptions{}, f); len(found) > 0 {
		t.Errorf("findings: %v", found)
	}
}

func TestRoughSeas(t *testing.T) {
	f, err := stavren.Load(t.Context(), examples.TideOffice(), "rough-seas.stavren.yaml", stavren.LoadOptions{})
	if err != nil {
		t.Fatal(err)
	}
	broken := map[string]bool{}
	today := time.Date(2026, time.November, 25, 0, 0, 0, 0, time.UTC)
	for _, found := range checked(t, stavren.CheckOptions{Today: today}, f) {
		broken[found.Rule] = true
	}
	for _, rule := range stavren.Rules() {
		// The fleet has many unknown names, and what looks unused may be what they
		// meant.
		if rule.Theme != "reading" && rule.Theme != "targets" && rule.Wrong != "" && !broken[rule.Name] &&
			rule.Name != "defined-and-unused" {
			t.Errorf("the faulty fleet does not show %s", rule.Name)
		}
	}
}

func TestRenderRefuses(t *testing.T) {
	f, err := stavren.Load(t.Context(), files, "faulty.stavren.yaml", stavren.LoadOptions{})
	if err != nil {
		t.Fatal(err)
	}
	_, err = stavren.Render(context.Background(), f, "qemu", stavren.RenderOptions{})
	var rules []string
	for _, found := range stavren.Findings(err) {
		rules = append(rules, found.Rule)
	}
	if strings.Join(rules, " ") != "image-without-file memory-below-need" {
		t.Errorf("rendering a faulty fleet: %v", err)
	}
	if _, err := stavren.Render(context.Background(), f, "floppy", stavren.RenderOptions{}); err == nil ||
		stavren.Findings(err) != nil {
		t.Errorf("an unknown target: %v", err)
	}
}

// TestDeterministic renders a thousand machines twice, on all processors, to the
// same bytes in the same order.
func TestDeterministic(t *testing.T) {
	big := fstest.MapFS{"harbour-wide.stavren.yaml": {Data: benchfleet.Definition(1000)}}
	var before []render.File
	for range 2 {
		f, err := stavren.Load(t.Context(), big, "harbour-wide.stavren.yaml", stavren.LoadOptions{})
		if err != nil {
			t.Fatal(err)
		}
		files, err := stavren.Render(context.Background(), f, "cloud-init", stavren.RenderOptions{})
		if err != nil {
			t.Fatal(err)
		}
		if len(files) != 3000 || files[0].Name != "gauge-0/user-data" ||
			files[2999].Name != "gauge-999/network-config" {
			t.Fatalf("%d files, the first %s", len(files), files[0].Name)
		}
		for i := range before {
			if before[i].Name != files[i].Name || string(before[i].Data) != string(files[i].Data) {
				t.Fatalf("%s differs from the first time", files[i].Name)
			}
		}
		before = files
	}
}

func TestRenderEndsWhenCancelled(t *testing.T) {
	f, err := stavren.Load(t.Context(), files, "tides.stavren.yaml", stavren.LoadOptions{})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := stavren.Render(ctx, f, "seed", stavren.RenderOptions{}); !errors.Is(err, context.Canceled) {
		t.Errorf("error %v", err)
	}
}

func TestWriteFolder(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "out")
	out := []render.File{{Name: "a/secret", Data: []byte("x"), Mode: 0o600},
		{Name: "b", Data: []byte("y"), Mode: 0o644}}
	for range 2 {
		if err := stavren.WriteFolder(t.Context(), folder, out); err != nil {
			t.Fatal(err)
		}
	}
	info, err := os.Stat(filepath.Join(folder, "a/secret"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("secret: %v, %v", info, err)
	}
	for _, name := range []string{"../out-of-it", "/etc/x", "a/../../x"} {
		if err := stavren.WriteFolder(t.Context(), folder, []render.File{{Name: name, Mode: 0o644}}); err == nil {
			t.Errorf("%s was written", name)
		}
	}
}

// TestMentionedPlatforms checks that what can't work on a cloud that a definition
// mentions is a warning that can be accepted, that it is an error with --for, and that
// it doesn't prevent rendering for another cloud.
func TestMentionedPlatforms(t *testing.T) {
	const text = "stavren: 1\nfleet: x\nimages: {i: {os: debian-12, file: i.qcow2, ids: {droplet: debian-12-x64, " +
		"x-elsewhere: x}}}\nmachines:\n  almanac: {image: i, resources: {cpus: 64}}\n" +
		"platforms: {droplet: {region: ams3}, x-elsewhere: {region: x}}\n" +
		"accept: {nobody-can-log-in: A test, no-way-in: A test%s}\n"
	for more, want := range map[string]int{"": 1, ", no-size-fits: It stays here": 0} {
		t.Run(more, func(t *testing.T) {
			const name = "x.stavren.yaml"
			f, err := stavren.Load(t.Context(), fstest.MapFS{name: {Data: []byte(fmt.Sprintf(text, more))}}, name,
				stavren.LoadOptions{})
			if err != nil {
				t.Fatal(err)
			}
			found := checked(t, stavren.CheckOptions{}, f)
			if len(found) != want || want > 0 && (found[0].Rule != "no-size-fits" ||
				found[0].Severity != finding.Warning) {
				t.Errorf("%q: %v", more, found)
			}
			if _, err := stavren.Render(context.Background(), f, "cloud-init", stavren.RenderOptions{}); err != nil {
				t.Errorf("%q: %v", more, err)
			}
			if _, err := stavren.Render(context.Background(), f, "droplet", stavren.RenderOptions{}); err == nil {
				t.Errorf("%q: a machine without a size was rendered", more)
			}
		})
	}
}
