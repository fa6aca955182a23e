package stavren_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"testing/fstest"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/benchfleet"
	"stavren.example/stavren/internal/outfolder"
	"stavren.example/stavren/render"
)

func harbourFleet(b *testing.B, n int) *fleet.Fleet {
	b.Helper()
	const name = "harbour-wide.stavren.yaml"
	f, err := stavren.Load(b.Context(), fstest.MapFS{name: {Data: benchfleet.Definition(n)}}, name, stavren.LoadOptions{})
	if err != nil {
		b.Fatal(err)
	}
	return f
}

// renderFolder renders as the command does, into a new folder.
func renderFolder(b *testing.B, f *fleet.Fleet, target render.Target) {
	folder, err := outfolder.Open(b.Context(), filepath.Join(b.TempDir(), "out"), nil)
	if err != nil {
		b.Fatal(err)
	}
	defer folder.Close()
	err = render.Stream(context.Background(), target, f, render.Options{}, func(file render.File) error {
		return folder.Add(file.Name, file.Data, file.Mode)
	})
	if err != nil {
		b.Fatal(err)
	}
	if _, err := folder.Commit(false); err != nil {
		b.Fatal(err)
	}
}

// writePlain writes files with nothing around it.
func writePlain(b *testing.B, files []render.File) {
	folder := b.TempDir()
	for _, file := range files {
		path := filepath.Join(folder, file.Name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(path, file.Data, 0o644); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkRender measures rendering a thousand machines beside its floor: for
// first-boot data encoding and writing the same documents, for seed images
// writing the same bytes.
//
//	go test -run '^$' -bench Render .
func BenchmarkRender(b *testing.B) {
	const machines = 1000
	f := harbourFleet(b, machines)
	for _, name := range []string{"cloud-init", "seed"} {
		target, err := stavren.Target(name)
		if err != nil {
			b.Fatal(err)
		}
		files, err := render.All(context.Background(), target, f, render.Options{})
		if err != nil {
			b.Fatal(err)
		}
		b.Run(name+"/floor", func(b *testing.B) {
			var documents []*yaml.Node
			if name == "cloud-init" {
				for _, file := range files {
					var root yaml.Node
					if err := yaml.Load(file.Data, &root); err != nil {
						b.Fatal(err)
					}
					documents = append(documents, &root)
				}
			}
			for b.Loop() {
				plain := files
				if documents != nil {
					plain = make([]render.File, len(files))
					for i, document := range documents {
						data, err := yaml.Dump(document, yaml.WithIndent(2), yaml.WithLineWidth(-1))
						if err != nil {
							b.Fatal(err)
						}
						plain[i] = render.File{Name: files[i].Name, Data: bytes.Clone(data)}
					}
				}
				writePlain(b, plain)
			}
		})
		b.Run(name+"/render", func(b *testing.B) {
			// What the floor left unwritten isn't part of this measurement, so it's
			// flushed first. Without sync(1), it is part of it.
			_ = exec.Command("sync").Run()
			for b.Loop() {
				renderFolder(b, f, target)
			}
		})
	}
}

// BenchmarkTemplate measures one template for many machines beside its floor,
// encoding the same document.
//
//	go test -run '^$' -bench Template .
func BenchmarkTemplate(b *testing.B) {
	target, err := stavren.Target("heat")
	if err != nil {
		b.Fatal(err)
	}
	for _, machines := range []int{100, 1000} {
		f := harbourFleet(b, machines)
		f.Platforms = append(f.Platforms, &fleet.Platform{Name: "heat", Network: "quay-net",
			Sizes: []*fleet.Size{{Name: "small", CPUs: 1, Memory: fleet.GiB, Disk: 20 * fleet.GiB}}})
		f.Complete()
		files, err := render.All(context.Background(), target, f, render.Options{})
		if err != nil {
			b.Fatal(err)
		}
		var document yaml.Node
		if err := yaml.Load(files[0].Data, &document); err != nil {
			b.Fatal(err)
		}
		b.Run(fmt.Sprintf("%d/floor", machines), func(b *testing.B) {
			b.SetBytes(int64(len(files[0].Data)))
			for b.Loop() {
				if _, err := yaml.Dump(&document, yaml.WithIndent(2), yaml.WithLineWidth(-1)); err != nil {
					b.Fatal(err)
				}
			}
		})
		b.Run(fmt.Sprintf("%d/render", machines), func(b *testing.B) {
			b.SetBytes(int64(len(files[0].Data)))
			for b.Loop() {
				if _, err := render.All(context.Background(), target, f, render.Options{}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
