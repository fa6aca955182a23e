// Package golden renders the demo for the tests of targets and compares the result
// with files that people have reviewed.
package golden

import (
	"context"
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"stavren.example/stavren/examples"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/load"
	"stavren.example/stavren/internal/textdiff"
	"stavren.example/stavren/render"
)

var update = flag.Bool("update", false, "rewrite the golden files")

// Machines names one machine of each kind in the demo.
var Machines = []string{"almanac", "store", "gauge-1", "chartroom", "harbour-log", "ferry-desk"}

// Demo loads the demo fleet.
func Demo(t testing.TB) *fleet.Fleet {
	t.Helper()
	f, err := load.Load(t.Context(), examples.TideOffice(), "tide-office.stavren.yaml", load.Options{})
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// Render renders some machines of a fleet, or all, with made-up secrets.
func Render(t testing.TB, target render.Target, f *fleet.Fleet, machines ...string) map[string]render.File {
	t.Helper()
	secrets := func(secret *fleet.Secret) (string, error) { return "high " + secret.Name, nil }
	options := render.Options{Machines: machines, Secrets: secrets}
	files, err := render.All(context.Background(), target, f, options)
	if err != nil {
		t.Fatal(err)
	}
	byName := map[string]render.File{}
	for _, file := range files {
		if _, twice := byName[file.Name]; twice {
			t.Errorf("%s is rendered twice", file.Name)
		}
		byName[file.Name] = file
	}
	return byName
}

// Compare compares files with those below testdata, whose names have dots instead of
// slashes. It skips seed images, which have tests of their own. With -update it
// rewrites the files. Without, a file that no test renders is an error.
func Compare(t *testing.T, files map[string]render.File) {
	t.Helper()
	expected := map[string]bool{}
	for _, file := range files {
		if strings.HasSuffix(file.Name, ".iso") {
			continue
		}
		name := filepath.Join("testdata", strings.ReplaceAll(file.Name, "/", "."))
		expected[name] = true
		if *update {
			if err := os.WriteFile(name, file.Data, 0o644); err != nil {
				t.Fatal(err)
			}
		}
		want, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		if diff := textdiff.Unified(name, string(want), string(file.Data)); diff != "" {
			t.Errorf("%s differs; go test -update rewrites it:\n%s", name, diff)
		}
	}
	existing, err := filepath.Glob("testdata/*")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range existing {
		if info, err := os.Stat(name); err == nil && !info.IsDir() && !expected[name] {
			t.Errorf("no test renders %s", name)
		}
	}
}
