//go:build unix

package cli

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// outsideText must never be printed or rendered: it is in a file outside the folder of
// the definition.
const outsideText = "canary-from-outside"

// unusualFiles makes one file of each kind that must not be read, below a name in a
// folder.
var unusualFiles = map[string]func(t *testing.T, path string){
	"link that leads out": func(t *testing.T, path string) {
		outside := filepath.Join(t.TempDir(), "outside")
		if err := os.WriteFile(outside, []byte(outsideText+": [\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink(outside, path); err != nil {
			t.Fatal(err)
		}
	},
	"link to a device": func(t *testing.T, path string) {
		if err := os.Symlink("/dev/zero", path); err != nil {
			t.Fatal(err)
		}
	},
	"pipe": func(t *testing.T, path string) {
		if err := syscall.Mkfifo(path, 0o600); err != nil {
			t.Fatal(err)
		}
	},
	"folder": func(t *testing.T, path string) {
		if err := os.Mkdir(path, 0o700); err != nil {
			t.Fatal(err)
		}
	},
}

// openings lists everything that opens a file: the command line, with a definition that
// has some lines. The file's name is odd. ownLink says that the person names the file,
// who may well name a link.
var openings = []struct {
	name, args, lines string
	ownLink           bool
}{
	{"definition", "check odd", "", true},
	{"use", "check f.stavren.yaml", "use: [odd]\n", false},
	{"key", "check f.stavren.yaml", "keys: {ops: {file: odd}}\n", false},
	{"file of first boot", "show --filled f.stavren.yaml",
		"machines: {m: {image: i, first_boot: {files: {/f: {file: odd}}}}}\n", false},
	{"script", "check f.stavren.yaml", "machines: {m: {image: i, first_boot: {scripts: {s: {file: odd}}}}}\n", false},
	{"secret", "render cloud-init f.stavren.yaml -o -  --only user-data",
		"secrets: {s: {file: odd}}\nmachines: {m: {image: i, users: {mira: {password: s}}}}\n", false},
	{"price sheet", "fit f.stavren.yaml --prices odd", "", true},
	{"sizes", "fit f.stavren.yaml --sizes gce=odd", "", true},
	{"public key", "new --key odd", "", true},
}

// TestUnusualFiles names every kind of file in every place that opens one. Each command
// ends soon, with an error, and prints nothing of what is outside.
func TestUnusualFiles(t *testing.T) {
	for _, opening := range openings {
		for kind, create := range unusualFiles {
			if opening.ownLink && kind == "link that leads out" {
				continue
			}
			t.Run(opening.name+"/"+kind, func(t *testing.T) {
				folder := t.TempDir()
				create(t, filepath.Join(folder, "odd"))
				lines := opening.lines
				if !strings.Contains(lines, "machines:") {
					lines += "machines: {m: {image: i}}\n"
				}
				text := "stavren: 1\nfleet: f\nimages: {i: {os: debian-12}}\n" + lines
				if err := os.WriteFile(filepath.Join(folder, "f.stavren.yaml"), []byte(text), 0o600); err != nil {
					t.Fatal(err)
				}
				out, code := runSoon(t, folder, strings.Fields(opening.args))
				if code == exitGood {
					t.Errorf("the command succeeds:\n%s", out)
				}
				if strings.Contains(out, outsideText) {
					t.Errorf("the file outside is printed:\n%s", out)
				}
			})
		}
	}
}

// runSoon runs a command that has to end within ten seconds.
func runSoon(t *testing.T, folder string, args []string) (string, int) {
	t.Helper()
	type result struct {
		out  string
		code int
	}
	ended := make(chan result, 1)
	go func() {
		var out bytes.Buffer
		s := newSession(strings.NewReader(""), &out, &out, nil, folder)
		ended <- result{code: s.run(context.Background(), args), out: out.String()}
	}()
	select {
	case r := <-ended:
		return r.out, r.code
	case <-time.After(10 * time.Second):
		t.Fatalf("%v does not end", args)
		return "", 0
	}
}
