package stavren_test

import (
	"fmt"
	"testing"
	"testing/fstest"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/benchfleet"
)

// BenchmarkLoadAndCheck measures loading and checking beside its floor, the YAML
// package parsing the same bytes to nodes: machines spelt out in full, and
// machines that share kits, changed by a variant.
//
//	go test -run '^$' -bench LoadAndCheck .
func BenchmarkLoadAndCheck(b *testing.B) {
	for _, n := range []int{100, 2000, 10000} {
		b.Run(fmt.Sprintf("full/%d", n), func(b *testing.B) {
			benchmarkLoadAndCheck(b, benchfleet.Definition(n), stavren.LoadOptions{})
		})
		b.Run(fmt.Sprintf("kits/%d", n), func(b *testing.B) {
			benchmarkLoadAndCheck(b, benchfleet.WithKits(n), stavren.LoadOptions{Variant: "rehearsal"})
		})
	}
}

func benchmarkLoadAndCheck(b *testing.B, data []byte, options stavren.LoadOptions) {
	const name = "harbour-wide.stavren.yaml"
	files := fstest.MapFS{name: {Data: data}}
	load := func(b *testing.B) *fleet.Fleet {
		f, err := stavren.Load(b.Context(), files, name, options)
		if err != nil {
			b.Fatal(err)
		}
		return f
	}
	b.Run("floor", func(b *testing.B) {
		b.SetBytes(int64(len(data)))
		b.ReportAllocs()
		for b.Loop() {
			var root yaml.Node
			if err := yaml.Load(data, &root); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("load", func(b *testing.B) {
		b.SetBytes(int64(len(data)))
		b.ReportAllocs()
		for b.Loop() {
			load(b)
		}
	})
	b.Run("check", func(b *testing.B) {
		f := load(b)
		b.ReportAllocs()
		for b.Loop() {
			if findings, err := stavren.Check(b.Context(), stavren.CheckOptions{}, f); err != nil || len(findings) != 0 {
				b.Fatalf("%v, %d findings: %.300v", err, len(findings), findings)
			}
		}
	})
}
