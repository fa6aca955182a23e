package seed_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"stavren.example/stavren/internal/targets/seed"
	"stavren.example/stavren/render"
)

var files = []render.File{
	{Name: "user-data", Data: []byte("#cloud-config\nhostname: almanac\n")},
	{Name: "meta-data", Data: []byte("instance-id: almanac-1\n")},
	{Name: "network-config", Data: bytes.Repeat([]byte("x"), 2048)}, // a whole sector
}

func TestSameBytesTwice(t *testing.T) {
	first, err := seed.Image(files)
	if err != nil {
		t.Fatal(err)
	}
	time.Sleep(1100 * time.Millisecond) // time stamps have seconds
	second, err := seed.Image(files)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(first, second) {
		for i := range first {
			if first[i] != second[i] {
				t.Fatalf("the images differ from byte %d on", i)
			}
		}
	}
	if bytes.Contains(first, []byte("go-diskfs")) || !bytes.Contains(first, []byte("STAVREN")) {
		t.Error("the image does not say who made it")
	}
}

// TestReaders reads an image by two independent ISO readers.
func TestReaders(t *testing.T) {
	image, err := seed.Image(files)
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "seed.iso")
	if err := os.WriteFile(path, image, 0o600); err != nil {
		t.Fatal(err)
	}
	t.Run("isoinfo", func(t *testing.T) {
		isoinfo := program(t, "isoinfo")
		if out := output(t, isoinfo, "-d", "-i", path); !strings.Contains(out, "Volume id: cidata") ||
			!strings.Contains(out, "Rock Ridge") {
			t.Errorf("isoinfo -d:\n%s", out)
		}
		for _, file := range files {
			if got := output(t, isoinfo, "-R", "-x", "/"+file.Name, "-i", path); got != string(file.Data) {
				t.Errorf("%s: got %q", file.Name, got)
			}
		}
	})
	t.Run("xorriso", func(t *testing.T) {
		xorriso := program(t, "xorriso")
		folder := t.TempDir()
		output(t, xorriso, "-osirrox", "on", "-indev", path, "-extract", "/", folder)
		for _, file := range files {
			got, err := os.ReadFile(filepath.Join(folder, file.Name))
			if err != nil || !bytes.Equal(got, file.Data) {
				t.Errorf("%s: got %q, %v", file.Name, got, err)
			}
		}
	})
}

func program(t *testing.T, name string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		t.Skipf("%s is not installed here", name)
	}
	return path
}

func output(t *testing.T, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).Output()
	if err != nil {
		t.Fatalf("%s %v: %v", name, args, err)
	}
	return string(out)
}
