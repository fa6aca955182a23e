package conformance

import (
	"fmt"
	"slices"
	"sort"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/render"
)

// readMachine reads a machine out of what a cloud target rendered.
func readMachine(t *testing.T, target cloud.Target, f *fleet.Fleet, files map[string]render.File,
	m *fleet.Machine) cloud.Reading {
	t.Helper()
	if target.ReadBack == nil {
		t.Fatalf("the target %s has no ReadBack; see \"Add a cloud\" in CONTRIBUTING.md", target.Name)
	}
	steps, err := render.Steps(target.Target, f, render.Options{})
	if err != nil {
		t.Fatal(err)
	}
	rendered := cloud.Rendered{Fleet: f, Files: map[string][]byte{}, Steps: steps}
	for name, file := range files {
		rendered.Files[name] = file.Data
	}
	reading, err := target.ReadBack(rendered, m)
	if err != nil {
		t.Fatalf("%s: %v", target.Name, err)
	}
	return reading
}

// allowed writes openings in one form, sorted: one line for each source.
func allowed(openings []cloud.Opening) []string {
	var list []string
	for _, o := range openings {
		for _, from := range o.From {
			list = append(list, fmt.Sprintf("%s %d-%d from %s", o.Protocol, o.First, o.Last, from))
		}
	}
	sort.Strings(list)
	return slices.Compact(list)
}

// TestNothingElseIsOpened reads the rules back out of each format and compares them
// with the definition: sources, protocols and ranges survive, and nothing is opened
// that nobody asked for.
func TestNothingElseIsOpened(t *testing.T) {
	f := busy(t)
	for _, target := range targets.Clouds() {
		t.Run(target.Name, func(t *testing.T) {
			files := rendering(t, target.Name, f)
			for _, m := range f.Machines {
				var asked []cloud.Opening
				for _, set := range cloud.Sets(f, []*fleet.Machine{m}) {
					asked = append(asked, set.Allow...)
				}
				want, got := allowed(asked), allowed(readMachine(t, target, f, files, m).Openings)
				for _, opening := range got {
					if !slices.Contains(want, opening) {
						t.Errorf("machine %s allows %s, which nobody asked for", m.Name, opening)
					}
				}
				for _, opening := range want {
					if !slices.Contains(got, opening) {
						t.Errorf("machine %s does not allow %s", m.Name, opening)
					}
				}
			}
		})
	}
}
