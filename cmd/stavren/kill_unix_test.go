//go:build unix

package main

import (
	"crypto/sha256"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"stavren.example/stavren/internal/benchfleet"
)

// sums lists the files of a folder with their checksums, without Stavren's own.
func sums(t *testing.T, folder string) map[string][32]byte {
	t.Helper()
	files := map[string][32]byte{}
	err := filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name, _ := filepath.Rel(folder, path)
		if strings.HasPrefix(name, ".stavren-") || name == "stavren.record.json" {
			if entry.IsDir() {
				return filepath.SkipDir
			}
			return nil
		}
		if !entry.IsDir() {
			data, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			files[name] = sha256.Sum256(data)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return files
}

// TestKilledRender kills the command at twenty moments of its run. Every file is then
// whole, old or new. If files were being replaced, the folder says so and the next run
// finishes it.
func TestKilledRender(t *testing.T) {
	stavren := build(t)
	folder := t.TempDir()
	old := benchfleet.Definition(60)
	write := func(data []byte) {
		if err := os.WriteFile(filepath.Join(folder, "h.stavren.yaml"), data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	render := func(out string) *exec.Cmd {
		c := exec.Command(stavren, "render", "seed", "h.stavren.yaml", "-o", out)
		c.Dir = folder
		return c
	}
	run := func(out string) {
		t.Helper()
		if text, err := render(out).CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
	}
	write(old)
	run("old")
	oldSums := sums(t, filepath.Join(folder, "old"))
	changed := []byte(strings.ReplaceAll(string(old), "full_name: Mira Holm", "full_name: Jonas Rasm"))
	write(changed)
	started := time.Now()
	run("new")
	whole := time.Since(started)
	newSums := sums(t, filepath.Join(folder, "new"))
	var finished, kept int
	const moments = 20
	for i := range moments {
		out := "out"
		if err := os.RemoveAll(filepath.Join(folder, out)); err != nil {
			t.Fatal(err)
		}
		write(old)
		run(out)
		write(changed)
		c := render(out)
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(whole * time.Duration(13*(i+1)) / (10 * moments))
		c.Process.Kill()
		c.Wait()
		got := sums(t, filepath.Join(folder, out))
		_, err := os.Stat(filepath.Join(folder, out, ".stavren-commit"))
		changing := err == nil
		olds, news := 0, 0
		for name, sum := range got {
			switch sum {
			case oldSums[name]:
				olds++
			case newSums[name]:
				news++
			default:
				t.Fatalf("moment %d: %s is neither old nor new", i, name)
			}
		}
		if len(got) != len(oldSums) && !changing || olds > 0 && news > 0 && !changing {
			t.Errorf("moment %d: %d old and %d new files, and nothing says that a change was under way", i, olds, news)
		}
		if news > 0 || changing {
			finished++
		} else {
			kept++
		}
		run(out)
		for name, sum := range sums(t, filepath.Join(folder, out)) {
			if sum != newSums[name] {
				t.Fatalf("moment %d: the next run left %s as it was", i, name)
			}
		}
		if left, _ := filepath.Glob(filepath.Join(folder, out, ".stavren-*")); len(left) > 0 {
			t.Errorf("moment %d: the next run left %v", i, left)
		}
	}
	if kept == 0 {
		t.Error("every moment was too late to see the old files")
	}
	t.Logf("%d times the old files, %d times the new ones", kept, finished)
}
