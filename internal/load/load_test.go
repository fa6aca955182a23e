package load

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
	"stavren.example/stavren/internal/language"
	"stavren.example/stavren/internal/textdiff"
)

var update = flag.Bool("update", false, "rewrite the golden files")

// beside has the files beside every definition of these tests.
var beside = fstest.MapFS{
	"keys/ops.pub":      {Data: []byte("ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGvoaO8vI6N0Mop8mvDoR09k4cSDplDLDgwwYrQYFy6l ops\n")},
	"scripts/binary":    {Data: []byte("#!/bin/sh\n\x00\xff")},
	"scripts/tables.sh": {Data: []byte("#!/bin/sh\necho tables\n")},
	"large":             {Data: make([]byte, document.MaxContent+1)},
}

func parseText(text string) (*fleet.Fleet, error) {
	return Parse(context.Background(), beside, "test.stavren.yaml", []byte(text), Options{})
}

// report writes faults line by line, with place, path, message and remedy.
func report(err error) string {
	if err == nil {
		return "no fault\n"
	}
	var text strings.Builder
	faults := Faults(err)
	if faults == nil {
		fmt.Fprintf(&text, "%v\n", err)
	}
	for _, f := range faults {
		fmt.Fprintf(&text, "%v\n    at %s\n    %s\n", f, f.Path, f.Remedy)
	}
	return text.String()
}

// TestFaults reads the definitions below testdata/faults, each of which has one
// key broken in several ways, and compares every message with its golden file.
func TestFaults(t *testing.T) {
	files, err := filepath.Glob("testdata/faults/*.yaml")
	if err != nil || len(files) == 0 {
		t.Fatalf("no test data: %v", err)
	}
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".yaml"), func(t *testing.T) {
			data, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			_, err = parseText(string(data))
			golden(t, strings.TrimSuffix(file, ".yaml")+".txt", report(err))
		})
	}
}

func golden(t *testing.T, file, got string) {
	t.Helper()
	if *update {
		if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if diff := textdiff.Unified(file, string(want), got); diff != "" {
		t.Errorf("%s differs; go test -update rewrites it:\n%s", file, diff)
	}
}

func TestRuleExamples(t *testing.T) {
	seen := map[string]bool{}
	for _, rule := range document.Rules() {
		if seen[rule.Name] {
			t.Errorf("two rules are called %s", rule.Name)
		}
		seen[rule.Name] = true
		if rule.Wrong == "" {
			continue // bounds, which TestBounds holds
		}
		_, err := parseText(rule.Wrong)
		faults := Faults(err)
		if len(faults) == 0 || faults[0].Rule != rule.Name {
			t.Errorf("%s: the wrong example gives %v", rule.Name, err)
		}
		if _, err := parseText(rule.Right); err != nil {
			t.Errorf("%s: the right example gives %v", rule.Name, err)
		}
	}
}

// companions lists what a map needs in addition to the key that is tested.
var companions = map[string][]string{
	"systems.NAME": {"family: debian"},
	"images.NAME":  {"os: debian-12"},
	"networks.NAME": {"mode: bridged", "subnet: 10.44.7.0/24", "dhcp_first: 10.44.7.100",
		"dhcp_last: 10.44.7.200"},
	"firewalls.NAME.allow":                    {"port: 443/tcp", "from: any"},
	"machines.NAME":                           {"image: bookworm"},
	"machines.NAME.disks.NAME":                {"size: 1GiB", "filesystem: ext4"},
	"machines.NAME.media.NAME":                {"file: x.iso"},
	"machines.NAME.nics.NAME.routes":          {"to: 10.45.0.0/16", "via: 10.44.7.2"},
	"machines.NAME.ports.NAME":                {"machine: 80"},
	"machines.NAME.shares.NAME":               {"host: charts", "machine: /srv/charts"},
	"machines.NAME.console":                   {"kind: graphical"},
	"machines.NAME.first_boot.sources.NAME":   {"url: \"https://packages.skerry.example\""},
	"machines.NAME.first_boot.files.NAME":     {"text: x"},
	"machines.NAME.first_boot.scripts.NAME":   {"text: x"},
	"machines.NAME.platforms.NAME.sizes.NAME": {"cpus: 1", "memory: 1GiB"},
	"platforms.NAME.sizes.NAME":               {"cpus: 1", "memory: 1GiB"},
}

// keyExample writes a definition with the example of one key.
func keyExample(key language.Key) string {
	parts := strings.Split(key.Path, ".")
	text := key.Example
	for i := len(parts) - 1; i >= 0; i-- {
		prefix := strings.Join(parts[:i], ".")
		name := parts[i]
		if name == "NAME" {
			name = "name"
			if strings.HasSuffix(prefix, "files") {
				name = "/etc/name"
			}
		}
		keys := []string{name + ": " + text}
		for _, also := range companions[prefix] {
			other, _, _ := strings.Cut(also, ":")
			if other != name && !(other == "text" && name == "file") {
				keys = append(keys, also)
			}
		}
		text = "{" + strings.Join(keys, ", ") + "}"
		if strings.HasSuffix(prefix, "allow") || strings.HasSuffix(prefix, "routes") {
			text = "[" + text + "]"
		}
	}
	text = "{stavren: 1, fleet: x, kits: {shore: {}}, " + text[1:]
	return strings.ReplaceAll(text, "site/index.html", "keys/ops.pub")
}

// TestKeyExamples reads the example of every key of the language where it belongs.
func TestKeyExamples(t *testing.T) {
	for _, key := range language.Keys() {
		if key.Doc == "" || key.Type == "" || key.Example == "" {
			t.Errorf("%s is not documented: %+v", key.Path, key)
		}
		if !strings.Contains(key.Path, ".") {
			continue // the rule examples have these
		}
		if _, err := parseText(keyExample(key)); err != nil {
			t.Errorf("the example of %s: %v\n%s", key.Path, err, keyExample(key))
		}
	}
}

// TestHostileText checks that free text is read as it was written.
func TestHostileText(t *testing.T) {
	for _, text := range []string{
		`quotes ' " and ` + "`id`" + ` $(id) ${HOME} %s \n`, "line\nbreak\r\n", "tab\there",
		"emoji 🌊, combining é, right-to-left \u202ex",
		"{{ nothing }}", "]]>", `"""`, "- : # & * ! | >", strings.Repeat("x", 4096), " leading and trailing ", "yes",
		"0x10", "~",
	} {
		definition := fmt.Sprintf("stavren: 1\nfleet: x\nimages: {i: {os: debian-12}}\nmachines:\n  m:\n"+
			"    image: i\n    about: %[1]s\n    first_boot: {files: {/f: {text: %[1]s}}}\n", yamlQuote(text))
		f, err := parseText(definition)
		if err != nil {
			t.Errorf("%q: %v", text, err)
			continue
		}
		if got := f.Machines[0].About; got != text {
			t.Errorf("about: got %q, want %q", got, text)
		}
		if got := f.Machines[0].FirstBoot.Files[0].Text; got != text {
			t.Errorf("text: got %q, want %q", got, text)
		}
	}
}

// yamlQuote writes text in double quotes with YAML's own escapes.
func yamlQuote(text string) string {
	var out strings.Builder
	out.WriteByte('"')
	for _, char := range text {
		switch {
		case char == '"' || char == '\\':
			out.WriteString("\\" + string(char))
		case char < ' ':
			fmt.Fprintf(&out, "\\x%02x", char)
		default:
			out.WriteRune(char)
		}
	}
	return out.String() + "\""
}

// TestBounds reads definitions that are too large, too deep or made to explode. Each
// ends within limits of time and memory.
func TestBounds(t *testing.T) {
	head := "stavren: 1\nfleet: x\n"
	bomb := head + "a: &a [x]\n"
	for i := 'b'; i < 'z'; i++ {
		bomb += fmt.Sprintf("%c: &%c [*%c,*%c,*%c,*%c,*%c,*%c]\n", i, i, i-1, i-1, i-1, i-1, i-1, i-1)
	}
	for _, c := range []struct{ name, text, want string }{
		{"empty", "", "empty-definition"},
		{"only a comment", "# tides\n", "empty-definition"},
		{"only a marker", "---\n", "empty-definition"},
		{"17 MiB", head + strings.Repeat("# tide\n", 17<<20/7), "definition-too-large"},
		{"10 MB of one line", head + "about: " + strings.Repeat("x", 10e6) + "\n", "out-of-range"},
		{"5 MB of keys", head + manyKeys(5e6), "out-of-range"},
		{"2 million values", head + "machines: [" + strings.Repeat("a,", 2e6), "definition-too-large"},
		{"deep flow", head + "machines: " + strings.Repeat("[", 100000), "not-yaml"},
		{"deep blocks", head + "machines:\n" + strings.Repeat("- ", 50000) + "x\n", "not-yaml"},
		{"aliases that explode", bomb, "alias-or-tag"},
		{"merge key", head + "images: {a: &a {os: debian-12}, b: {<<: *a}}\n", "alias-or-tag"},
		{"two documents", head + "---\n" + head, "not-yaml"},
		{"control character", head + "about: \"\x01\"\n", "not-yaml"},
		{"not UTF-8", head + "about: \xff\n", "not-yaml"},
		{"UTF-16", "\xff\xfes\x00", "not-yaml"},
		{"a list", "- stavren: 1\n", "wrong-type"},
		{"a word", "stavren\n", "wrong-type"},
		{"a key that is a list", head + "[a]: b\n", "wrong-type"},
		{"a custom tag", head + "about: !secret x\n", "alias-or-tag"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&before)
			started := time.Now()
			_, err := parseText(c.text)
			took := time.Since(started)
			runtime.ReadMemStats(&after)
			var rule string
			if faults := Faults(err); len(faults) > 0 {
				rule = faults[0].Rule
				if len(faults) > 101 {
					t.Errorf("%d faults are listed", len(faults))
				}
			} else if err != nil {
				t.Errorf("error without findings: %v", err)
			}
			if rule != c.want {
				t.Errorf("got %q (%.300v), want %q", rule, err, c.want)
			}
			if took > 10*time.Minute { // it hangs; what it allocates is the measure
				t.Errorf("took %v", took)
			}
			// What the YAML package needs for the most values that are read.
			if used := after.TotalAlloc - before.TotalAlloc; used > 400<<20 {
				t.Errorf("allocated %d MiB", used>>20)
			}
		})
	}
}

func manyKeys(size int) string {
	var text strings.Builder
	for i := 0; text.Len() < size; i++ {
		fmt.Fprintf(&text, "key-%d: value\n", i)
	}
	return text.String()
}

func TestBlockPlaces(t *testing.T) {
	f, err := parseText("stavren: 1\nfleet: x\nimages: {i: {os: debian-12}}\nmachines:\n  m:\n    image: i\n" +
		"    first_boot:\n      scripts:\n        s:\n          text: |\n\n            one\n              two\n" +
		"        q: {text: \"x\"}\n        f: {file: scripts/tables.sh}\n")
	if err != nil {
		t.Fatal(err)
	}
	scripts := f.Machines[0].FirstBoot.Scripts
	for _, c := range []struct {
		script       int
		line, column int
		want         string
	}{
		{0, 2, 1, "test.stavren.yaml:12:13"},
		{0, 3, 3, "test.stavren.yaml:13:15"},
		{1, 1, 1, "test.stavren.yaml:14:20"},
		{2, 2, 6, "scripts/tables.sh:2:6"},
	} {
		t.Run(c.want, func(t *testing.T) {
			if got := scripts[c.script].PlaceAt(c.line, c.column).String(); got != c.want {
				t.Errorf("script %d, %d:%d is at %s, want %s", c.script, c.line, c.column, got, c.want)
			}
		})
	}
}

func TestAutoPortsStay(t *testing.T) {
	machine := func(name string) string {
		return "  " + name + ": {image: i, ports: {ssh: {host: auto, machine: 22}}}\n"
	}
	read := func(names ...string) map[string]int {
		text := "stavren: 1\nfleet: x\nimages: {i: {os: debian-12}}\nmachines:\n"
		for _, name := range names {
			text += machine(name)
		}
		f, err := parseText(text)
		if err != nil {
			t.Fatal(err)
		}
		ports := map[string]int{}
		for _, m := range f.Machines {
			ports[m.Name] = m.Ports[0].Host
		}
		return ports
	}
	all := read("a", "b", "c", "d")
	if some := read("d", "b"); some["b"] != all["b"] || some["d"] != all["d"] {
		t.Errorf("ports moved: %v, then %v", all, some)
	}
	for name, port := range all {
		if port < 20000 || port > 31999 {
			t.Errorf("%s has port %d", name, port)
		}
	}
}

// FuzzParse checks that reading never panics, that every fault has a place, a message
// and a remedy, and that reading in pieces gives the same as reading whole.
func FuzzParse(f *testing.F) {
	files, _ := filepath.Glob("testdata/faults/*.yaml")
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
	}
	for _, rule := range document.Rules() {
		f.Add([]byte(rule.Wrong))
		f.Add([]byte(rule.Right))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		fleetRead, err := Parse(t.Context(), beside, "test.stavren.yaml", data, Options{})
		samePieces(t, data)
		if err == nil {
			fleetRead.Complete()
			for _, m := range fleetRead.Machines {
				for _, row := range language.Sheet(m) {
					if row.Path == "" {
						t.Errorf("a row without a path: %+v", row)
					}
				}
			}
			return
		}
		faults := Faults(err)
		if len(faults) == 0 {
			t.Fatalf("error without findings: %v", err)
		}
		for _, fault := range faults {
			if fault.Rule == "" || fault.Message == "" || fault.Remedy == "" || fault.Place.File == "" ||
				fault.Severity != finding.Error {
				t.Errorf("incomplete: %+v", fault)
			}
		}
	})
}
