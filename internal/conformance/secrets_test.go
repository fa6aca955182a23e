package conformance

import (
	"context"
	"path"
	"testing"

	"stavren.example/stavren"
	"stavren.example/stavren/examples"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets"
	"stavren.example/stavren/render"
)

// TestReadableFilesTellNothing renders the demo with two sets of secrets. A file that
// others can read must be the same, or it would be a way to test guesses. Only
// meta-data has an id that changes, by a slow hash.
func TestReadableFilesTellNothing(t *testing.T) {
	f, err := stavren.Load(t.Context(), examples.TideOffice(), "tide-office.stavren.yaml", stavren.LoadOptions{})
	if err != nil {
		t.Fatal(err)
	}
	for _, target := range targets.All() {
		t.Run(target.Name, func(t *testing.T) {
			first, second := withSecrets(t, target, f, "high water"), withSecrets(t, target, f, "low water")
			secret := 0
			for i, file := range first {
				if file.Mode&0o077 == 0 {
					secret++
					continue
				}
				if string(file.Data) != string(second[i].Data) && path.Base(file.Name) != "meta-data" {
					t.Errorf("%s has mode %v and depends on a secret", file.Name, file.Mode)
				}
			}
			if secret == 0 {
				t.Error("the demo has secrets, but every file is readable by others")
			}
		})
	}
}

func withSecrets(t *testing.T, target render.Target, f *fleet.Fleet, value string) []render.File {
	t.Helper()
	files, err := render.All(context.Background(), target, f, render.Options{
		Secrets: func(secret *fleet.Secret) (string, error) { return value + secret.Name, nil },
	})
	if err != nil {
		t.Fatal(err)
	}
	return files
}
