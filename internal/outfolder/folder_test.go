package outfolder_test

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"stavren.example/stavren/internal/outfolder"
)

func write(folder string, force bool, files map[string]string) (outfolder.Written, error) {
	writer, err := outfolder.Open(context.Background(), folder, nil)
	if err != nil {
		return outfolder.Written{}, err
	}
	defer writer.Close()
	for name, text := range files {
		if err := writer.Add(name, []byte(text), 0o644); err != nil {
			return outfolder.Written{}, err
		}
	}
	return writer.Commit(force)
}

func read(t *testing.T, folder, name string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(folder, name))
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

func TestCommit(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "out")
	written, err := write(folder, false, map[string]string{"a": "1", "b/c": "1"})
	if err != nil || len(written.New) != 2 {
		t.Fatalf("first: %+v, %v", written, err)
	}
	written, err = write(folder, false, map[string]string{"a": "2", "b/c": "1"})
	if err != nil || len(written.Changed) != 1 || len(written.Same) != 1 || read(t, folder, "a") != "2" {
		t.Errorf("second: %+v, %v", written, err)
	}
	if err := os.WriteFile(filepath.Join(folder, "a"), []byte("by hand"), 0o644); err != nil {
		t.Fatal(err)
	}
	var inTheWay *outfolder.InTheWayError
	if _, err := write(folder, false, map[string]string{"a": "3", "b/c": "3"}); !errors.As(err, &inTheWay) ||
		len(inTheWay.Names) != 1 {
		t.Errorf("changed by hand: %v", err)
	}
	if read(t, folder, "a") != "by hand" || read(t, folder, "b/c") != "1" {
		t.Error("something was written although a file is in the way")
	}
	if _, err := write(folder, true, map[string]string{"a": "3", "b/c": "3"}); err != nil ||
		read(t, folder, "a") != "3" {
		t.Errorf("by force: %v", err)
	}
	entries, err := os.ReadDir(folder)
	if err != nil || len(entries) != 3 {
		t.Errorf("left behind: %v, %v", entries, err)
	}
}

func TestForceSparesFolders(t *testing.T) {
	folder := t.TempDir()
	if err := os.MkdirAll(filepath.Join(folder, "a", "inside"), 0o755); err != nil {
		t.Fatal(err)
	}
	if _, err := write(folder, true, map[string]string{"a": "1"}); err == nil {
		t.Error("a folder was overwritten by a file")
	}
}

func TestAddRefuses(t *testing.T) {
	writer, err := outfolder.Open(t.Context(), t.TempDir(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer writer.Close()
	for _, name := range []string{
		"../x", "/x", "a/../../x", "", ".", "a/./b", "a//b", "a/", "stavren.record.json", ".stavren-commit",
		".stavren-commit/x", ".stavren-new-1/x", "stavren.record.json/x",
	} {
		if err := writer.Add(name, nil, 0o644); err == nil {
			t.Errorf("%q was added", name)
		}
	}
	if err := writer.Add("x", nil, 0o644); err != nil {
		t.Error(err)
	}
	if err := writer.Add("x", nil, 0o644); err == nil {
		t.Error("a file was added twice")
	}
}

// TestFinishesEarlierRun interrupts a run between its moves. The next one finishes it.
func TestFinishesEarlierRun(t *testing.T) {
	folder := t.TempDir()
	if _, err := write(folder, false, map[string]string{"a": "1", "b": "1"}); err != nil {
		t.Fatal(err)
	}
	// What an interrupted run leaves after moving a and before moving b.
	pending := filepath.Join(folder, ".stavren-commit")
	for name, text := range map[string]string{filepath.Join(folder, "a"): "2", filepath.Join(pending, "b"): "2"} {
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	writer, err := outfolder.Open(context.Background(), folder, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer writer.Close()
	if read(t, folder, "a") != "2" || read(t, folder, "b") != "2" {
		t.Errorf("a is %q, b is %q", read(t, folder, "a"), read(t, folder, "b"))
	}
}

// TestFinishedButForRemoval has what a run leaves that was killed after it had moved
// every file.
func TestFinishedButForRemoval(t *testing.T) {
	folder := t.TempDir()
	if err := os.MkdirAll(filepath.Join(folder, ".stavren-commit", "m"), 0o755); err != nil {
		t.Fatal(err)
	}
	if _, err := write(folder, false, map[string]string{"m/a": "1"}); err != nil {
		t.Fatal(err)
	}
	if read(t, folder, "m/a") != "1" {
		t.Error("the file isn't in place")
	}
}

// TestKill kills a process that writes at many moments; each file is then whole,
// old or new.
func TestKill(t *testing.T) {
	if folder := os.Getenv("STAVREN_TEST_FOLDER"); folder != "" {
		for i := 1; ; i++ {
			files := map[string]string{}
			for j := range 20 {
				files[fmt.Sprintf("m%d/file", j)] = strings.Repeat(fmt.Sprintf("%06d\n", i), 2000)
			}
			if _, err := write(folder, true, files); err != nil {
				t.Fatal(err)
			}
		}
	}
	folder := t.TempDir()
	for round := range 12 {
		c := exec.Command(os.Args[0], "-test.run", "^TestKill$")
		c.Env = append(os.Environ(), "STAVREN_TEST_FOLDER="+folder)
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(60+17*round) * time.Millisecond)
		if err := c.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		c.Wait() // it was killed, and says so
		writer, err := outfolder.Open(context.Background(), folder, nil)
		if err != nil {
			t.Fatal(err)
		}
		writer.Close()
		first := ""
		for j := range 20 {
			data, err := os.ReadFile(filepath.Join(folder, fmt.Sprintf("m%d/file", j)))
			if errors.Is(err, os.ErrNotExist) && first == "" && j == 0 {
				break // killed before anything was in place
			}
			if err != nil || len(data) != 14000 || strings.Count(string(data), string(data[:7])) != 2000 {
				t.Fatalf("round %d: file %d is torn: %d bytes, %v", round, j, len(data), err)
			}
			if first == "" {
				first = string(data[:7])
			}
			if string(data[:7]) != first {
				t.Fatalf("round %d: file %d is from another run than the first", round, j)
			}
		}
	}
}

// TestLeadsNowhereElse plants links in an output folder that lead out of it. Nothing is
// written there.
func TestLeadsNowhereElse(t *testing.T) {
	for name, plant := range map[string]func(folder, victim string) error{
		"folder of a machine": func(folder, victim string) error {
			return os.Symlink(victim, filepath.Join(folder, "m"))
		},
		"file": func(folder, victim string) error {
			if err := os.Mkdir(filepath.Join(folder, "m"), 0o755); err != nil {
				return err
			}
			return os.Symlink(filepath.Join(victim, "run.sh"), filepath.Join(folder, "m", "run.sh"))
		},
	} {
		t.Run(name, func(t *testing.T) {
			folder, victim := t.TempDir(), t.TempDir()
			if err := plant(folder, victim); err != nil {
				t.Fatal(err)
			}
			for _, force := range []bool{false, true} {
				if _, err := write(folder, force, map[string]string{"m/run.sh": "secret"}); err == nil {
					t.Errorf("force %v: it was written", force)
				}
			}
			if entries, err := os.ReadDir(victim); err != nil || len(entries) > 0 {
				t.Errorf("written outside: %v, %v", entries, err)
			}
		})
	}
}

// TestPlantedCommit plants what looks like an interrupted run. It must not replace
// files that stavren did not write.
func TestPlantedCommit(t *testing.T) {
	folder := t.TempDir()
	for name, text := range map[string]string{
		"mine": "kept", ".stavren-commit/mine": "planted",
		// The record lists the file as it is.
		".stavren-commit/stavren.record.json": fmt.Sprintf(`{"files": {"mine": "%x"}}`, sha256.Sum256([]byte("kept"))),
	} {
		path := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	_, err := write(folder, true, map[string]string{"a": "1"})
	if err == nil || !strings.Contains(err.Error(), "stavren did not write; remove") {
		t.Errorf("the error is %v", err)
	}
	if read(t, folder, "mine") != "kept" {
		t.Errorf("the file is %q", read(t, folder, "mine"))
	}
}

func TestRecordIsPrivate(t *testing.T) {
	folder := t.TempDir()
	if _, err := write(folder, false, map[string]string{"a": "1"}); err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(filepath.Join(folder, outfolder.RecordName))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the record has mode %v, %v; its checksums would help to guess secrets", info.Mode(), err)
	}
}

// TestLock starts ten writers of different files at once. Each waits for the others,
// and the record has all files in the end, so that everything can be written again.
func TestLock(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "new", "out")
	var group sync.WaitGroup
	var waited atomic.Int64
	for i := range 10 {
		group.Go(func() {
			writer, err := outfolder.Open(t.Context(), folder, func() { waited.Add(1) })
			if err != nil {
				t.Error(err)
				return
			}
			defer writer.Close()
			if err := writer.Add(fmt.Sprintf("m%d/a", i), []byte("x"), 0o644); err != nil {
				t.Error(err)
			}
			time.Sleep(10 * time.Millisecond)
			if _, err := writer.Commit(false); err != nil {
				t.Error(err)
			}
		})
	}
	group.Wait()
	if waited.Load() == 0 {
		t.Error("nobody had to wait")
	}
	for i := range 10 {
		if _, err := write(folder, false, map[string]string{fmt.Sprintf("m%d/a", i): "y"}); err != nil {
			t.Errorf("writing m%d again: %v", i, err)
		}
	}
	holder, err := outfolder.Open(t.Context(), folder, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer holder.Close()
	ctx, cancel := context.WithCancel(t.Context())
	if _, err := outfolder.Open(ctx, folder, cancel); !errors.Is(err, context.Canceled) {
		t.Errorf("a writer whose context ends while it waits: %v", err)
	}
}

// TestNothingIsLeft opens folders that don't exist and writes nothing there.
func TestNothingIsLeft(t *testing.T) {
	folder := t.TempDir()
	writer, err := outfolder.Open(t.Context(), filepath.Join(folder, "a", "b"), nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := writer.Add("m/x", []byte("1"), 0o644); err != nil {
		t.Fatal(err)
	}
	writer.Close()
	if err := os.Mkdir(filepath.Join(folder, "mine"), 0o755); err != nil {
		t.Fatal(err)
	}
	if writer, err = outfolder.Open(t.Context(), filepath.Join(folder, "mine"), nil); err != nil {
		t.Fatal(err)
	}
	writer.Close()
	entries, err := os.ReadDir(folder)
	if err != nil || len(entries) != 1 || entries[0].Name() != "mine" {
		t.Errorf("left behind: %v, %v", entries, err)
	}
}

// TestHugeFileInTheWay looks at a file of 3 GB, which is no file of Stavren's by its
// size alone.
func TestHugeFileInTheWay(t *testing.T) {
	folder := t.TempDir()
	file, err := os.Create(filepath.Join(folder, "a"))
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	if err := file.Truncate(3 << 30); err != nil {
		t.Skip("no sparse files here: ", err)
	}
	started := time.Now()
	var inTheWay *outfolder.InTheWayError
	if _, err := write(folder, false, map[string]string{"a": "1"}); !errors.As(err, &inTheWay) {
		t.Errorf("error %v", err)
	}
	// Hashing that much takes seconds anywhere.
	if took := time.Since(started); took > time.Second/2 {
		t.Errorf("took %v", took)
	}
}
