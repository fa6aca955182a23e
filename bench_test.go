package stavren_test

import (
	"fmt"
	"testing"
	"testing/fstest"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren"
	"stavren.example/stavren/internal/harbour"
)

// BenchmarkLoadAndCheck measures loading and checking beside its floor, the YAML
// package parsing the same bytes to nodes.
//
//	go test -run '^$' -bench LoadAndCheck .
func BenchmarkLoadAndCheck(b *testing.B) {
	for _, n := range []int{100, 2000, 10000} {
		data := harbour.Definition(n)
		files := fstest.MapFS{"harbour-wide.stavren.yaml": {Data: data}}
		b.Run(fmt.Sprintf("floor/%d", n), func(b *testing.B) {
			b.SetBytes(int64(len(data)))
			b.ReportAllocs()
			for b.Loop() {
				var root yaml.Node
				if err := yaml.Load(data, &root); err != nil {
					b.Fatal(err)
				}
			}
		})
		b.Run(fmt.Sprintf("load/%d", n), func(b *testing.B) {
			b.SetBytes(int64(len(data)))
			b.ReportAllocs()
			for b.Loop() {
				if _, err := stavren.Load(files, "harbour-wide.stavren.yaml", stavren.LoadOptions{}); err != nil {
					b.Fatal(err)
				}
			}
		})
		b.Run(fmt.Sprintf("check/%d", n), func(b *testing.B) {
			fleet, err := stavren.Load(files, "harbour-wide.stavren.yaml", stavren.LoadOptions{})
			if err != nil {
				b.Fatal(err)
			}
			b.ReportAllocs()
			for b.Loop() {
				if findings := stavren.Check(fleet); len(findings) != 0 {
					b.Fatalf("%d findings, the first: %v", len(findings), findings[0])
				}
			}
		})
	}
}
