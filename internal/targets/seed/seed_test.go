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
	{Name: "user-data-of-the-vendor", Data: []byte("two short names would be the same\n")},
	{Name: "nothing"},
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
}

// TestReaders reads an image by three independent ISO readers.
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
			!strings.Contains(out, "Rock Ridge") || !strings.Contains(out, "Joliet with UCS level 3") {
			t.Errorf("isoinfo -d:\n%s", out)
		}
		for _, file := range files {
			for _, names := range []string{"-R", "-J"} { // Rock Ridge and Joliet
				if got := output(t, isoinfo, names, "-x", "/"+file.Name, "-i", path); got != string(file.Data) {
					t.Errorf("%s %s: got %q", names, file.Name, got)
				}
			}
		}
	})
	t.Run("libarchive", func(t *testing.T) {
		bsdtar := program(t, "bsdtar")
		for _, file := range files {
			if got := output(t, bsdtar, "-xOf", path, file.Name); got != string(file.Data) {
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

func TestRefusesNames(t *testing.T) {
	for _, name := range []string{"a/b", "a\x00", strings.Repeat("a", 65)} {
		t.Run(name, func(t *testing.T) {
			if _, err := seed.Image([]render.File{{Name: name}}); err == nil {
				t.Error("the name is accepted")
			}
		})
	}
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
