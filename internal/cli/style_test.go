package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"unicode"
)

// escapes are what terminals act on: colour, a title, clearing, a C1 control, the
// direction of text, and a mark of our own styles.
var escapes = []string{
	"\x1b[31m", "\x1b]0;title\a", "\x1b[2J", "\u009b2J", "\u202ereversed", "\u2066", "\ufdd0", "\b\b\b", "\rover",
}

// sgr is a sequence that our styles write.
var sgr = regexp.MustCompile("\x1b\\[[0-9;]*m")

// faultyText puts a text into places of a definition that refuse it, and repeat it in
// what they report.
const faultyText = `stavren: 1
fleet: f
use: ["HOSTILE.yaml"]
images: {i: {os: "HOSTILE"}}
keys: {k: {text: "HOSTILE"}, l: {file: "HOSTILE"}}
secrets: {s: {file: "HOSTILE"}}
accept: {"HOSTILE": "HOSTILE"}
machines:
  "HOSTILE": {image: i}
  m:
    image: "HOSTILE"
    labels: {"HOSTILE": b}
    disks: {d: {size: 1GiB, filesystem: "HOSTILE", options: ["HOSTILE"]}}
    users: {mira: {shell: "HOSTILE", password: "HOSTILE"}, "HOSTILE": {}}
    first_boot: {packages: ["HOSTILE"], sources: {p: {url: "HOSTILE"}}, files: {/f: {text: "{{ HOSTILE }}", fill: true}}}
    unknown: "HOSTILE"
    "HOSTILE": 1
`

// soundText puts it into every place that takes free text.
const soundText = `stavren: 1
fleet: f
about: "HOSTILE"
systems: {tide: {family: debian, title: "HOSTILE"}}
images: {i: {os: tide, file: "images/HOSTILE.qcow2", ids: {heat: "HOSTILE"}}}
secrets: {s: {file: "HOSTILE"}}
platforms: {heat: {network: "HOSTILE", zone: "HOSTILE", sizes: {"HOSTILE": {cpus: 8, memory: 8GiB}}}}
accept: {open-to-world: "HOSTILE"}
machines:
  m:
    image: i
    about: "HOSTILE"
    labels: {a: "HOSTILE"}
    region: "HOSTILE"
    identity: {account: "HOSTILE", scopes: ["HOSTILE"]}
    disks: {d: {size: 1GiB, filesystem: ext4, mount: "/srv/HOSTILE", start: "HOSTILE"}}
    shares: {h: {host: "HOSTILE", machine: "/mnt/HOSTILE"}}
    media: {c: {file: "HOSTILE"}}
    users: {mira: {full_name: "HOSTILE"}}
    first_boot:
      files: {"/etc/HOSTILE": {text: "HOSTILE"}, /g: {text: "HOSTILE {{ self \"name\" }}", fill: true}}
      scripts: {t: {text: "HOSTILE"}}
`

// TestNothingActsOnTheTerminal runs every command that prints values on hostile
// definitions, with colour. What gets out is text and our own styles.
func TestNothingActsOnTheTerminal(t *testing.T) {
	for _, escape := range escapes {
		quoted := yamlEscapes(escape)
		for name, text := range map[string]string{
			"faulty": strings.ReplaceAll(faultyText, "HOSTILE", quoted),
			"sound":  strings.ReplaceAll(soundText, "HOSTILE", quoted),
		} {
			folder := t.TempDir()
			if err := os.WriteFile(filepath.Join(folder, "f.stavren.yaml"), []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
			for _, args := range []string{
				"check f.stavren.yaml", "check --format lines f.stavren.yaml", "check --format json f.stavren.yaml",
				"check --format sarif f.stavren.yaml", "check --here --for qemu,heat f.stavren.yaml",
				"show --origins f.stavren.yaml", "show --filled f.stavren.yaml", "show --format json f.stavren.yaml",
				"render qemu f.stavren.yaml -o out --notes", "render heat f.stavren.yaml -o out", "fit f.stavren.yaml",
				"reach f.stavren.yaml", "reach --format json f.stavren.yaml", "rules " + escape, "targets " + escape,
				"show f.stavren.yaml " + escape, "check " + escape,
			} {
				t.Run(strings.Join([]string{name, quoted, args}, "/"), func(t *testing.T) {
					var out bytes.Buffer
					s := newSession(strings.NewReader(""), &out, &out, []string{"CLICOLOR_FORCE=1"}, folder)
					s.run(context.Background(), strings.Split(args, " "))
					for _, char := range sgr.ReplaceAllString(out.String(), "") {
						if char != '\n' && char != '\t' && (unicode.IsControl(char) ||
							unicode.Is(unicode.Bidi_Control, char)) {
							t.Fatalf("%U gets out:\n%q", char, out.String())
						}
					}
				})
			}
		}
	}
}

// yamlEscapes writes a text for the inside of double quotes in YAML.
func yamlEscapes(text string) string {
	var out strings.Builder
	for _, char := range text {
		if unicode.IsControl(char) || unicode.Is(unicode.Bidi_Control, char) {
			fmt.Fprintf(&out, `\u%04X`, char)
			continue
		}
		out.WriteRune(char)
	}
	return out.String()
}

// fullDisk is where nothing can be written.
type fullDisk struct{}

func (fullDisk) Write([]byte) (int, error) { return 0, syscall.ENOSPC }

// TestFullDisk runs every command that prints to a full disk. A script must not take
// what is missing for success.
func TestFullDisk(t *testing.T) {
	folder := t.TempDir()
	text := strings.ReplaceAll(soundText, "HOSTILE", "harbour")
	if err := os.WriteFile(filepath.Join(folder, "f.stavren.yaml"), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, args := range []string{
		"check f.stavren.yaml", "check --format json f.stavren.yaml", "check --format sarif f.stavren.yaml",
		"check --format lines f.stavren.yaml", "show f.stavren.yaml", "show --filled f.stavren.yaml",
		"show --format json f.stavren.yaml", "reach f.stavren.yaml", "fit f.stavren.yaml", "rules",
		"rules unknown-image", "targets", "targets qemu", "schema", "manual", "new", "--version", "--help",
		"render cloud-init f.stavren.yaml --only user-data -o -", "render cloud-init f.stavren.yaml -o out",
	} {
		t.Run(args, func(t *testing.T) {
			var messages bytes.Buffer
			s := newSession(strings.NewReader(""), fullDisk{}, &messages, nil, folder)
			if code := s.run(context.Background(), strings.Fields(args)); code != exitUnable {
				t.Errorf("exit code %d, want %d; messages:\n%s", code, exitUnable, &messages)
			}
			if !strings.Contains(messages.String(), syscall.ENOSPC.Error()) {
				t.Errorf("the messages don't say why:\n%s", &messages)
			}
		})
	}
}
