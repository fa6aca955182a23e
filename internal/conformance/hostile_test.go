package conformance

import (
	"context"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"stavren.example/stavren"
	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/load"
	"stavren.example/stavren/render"
)

// hostile lists texts to put into every free text of the language.
var hostile = append(slices.Clone(hostileTexts), "$(touch canary)", "`touch canary`", "'; touch canary; '",
	"\"; touch canary; \"", "a,b", "a%b%(c)", "a:b", "\ta", "a\\b", "$HOME", "*", "-x", "--help", "a=b", "ünïcode 🌊",
	"a\nEOF\nb", "</a>", "&lt;", "${x}", "#{x}", "{{.x}}")

// freeTexts lists the free texts: their place in a definition, and their value in the
// model.
var freeTexts = []struct {
	name string
	// lines is the definition's part, with %s for the text in quotes.
	lines string
	get   func(f *fleet.Fleet, m *fleet.Machine) string
}{
	{"machine.about", "    about: %s", func(_ *fleet.Fleet, m *fleet.Machine) string { return m.About }},
	{"image.file", "", func(f *fleet.Fleet, _ *fleet.Machine) string { return f.Images[0].File }},
	{"user.full_name", "    users: {mira: {full_name: %s}}",
		func(_ *fleet.Fleet, m *fleet.Machine) string { return m.Users[0].FullName }},
	{"file.text", "    first_boot: {files: {/etc/tide: {text: %s}}}",
		func(_ *fleet.Fleet, m *fleet.Machine) string { return m.FirstBoot.Files[0].Text }},
	{"file path", "    first_boot: {files: {%s: {text: x}}}",
		func(_ *fleet.Fleet, m *fleet.Machine) string { return m.FirstBoot.Files[0].Path }},
	{"script.text", "    first_boot: {scripts: {a: {text: %s}}}",
		func(_ *fleet.Fleet, m *fleet.Machine) string { return m.FirstBoot.Scripts[0].Text }},
	{"share.host", "    shares: {charts: {host: %s, machine: /srv/charts}}",
		func(_ *fleet.Fleet, m *fleet.Machine) string { return m.Shares[0].Host }},
	{"share.machine", "    shares: {charts: {host: charts, machine: %s}}",
		func(_ *fleet.Fleet, m *fleet.Machine) string { return m.Shares[0].Machine }},
	{"medium.file", "    media: {install: {file: %s}}", func(_ *fleet.Fleet,
		m *fleet.Machine) string {
		return m.Media[0].File
	}},
	{"disk.start", "    disks: {data: {size: 1GiB, start: %s}}",
		func(_ *fleet.Fleet, m *fleet.Machine) string { return m.Disks[1].Start }},
	{"console.password", "    console: {kind: graphical, password: screen}", nil},
}

// load reads a definition with one hostile text in it, or returns nil if it is
// refused before rendering.
func loaded(t *testing.T, lines, text string) *fleet.Fleet {
	t.Helper()
	quoted := inYAML(text)
	image := `"base.qcow2"`
	if lines == "" {
		image = quoted
	}
	definition := "stavren: 1\nfleet: hostile\nimages: {i: {os: debian-12, file: " + image +
		"}}\nnetworks: {quay: {subnet: 10.44.7.0/24}}\nsecrets: {screen: {env: SCREEN}}\nmachines:\n  tide:\n" +
		"    image: i\n"
	if lines != "" {
		definition += strings.Replace(lines, "%s", quoted, 1) + "\n"
	}
	f, err := load.Parse(t.Context(), fstest.MapFS{}, "hostile.stavren.yaml", []byte(definition), load.Options{})
	if err != nil {
		if faults := stavren.Findings(err); len(faults) == 0 {
			t.Errorf("%q: an error without findings: %v", text, err)
		}
		return nil
	}
	return f
}

// inYAML writes any text as a double-quoted scalar of YAML 1.2.
func inYAML(text string) string {
	var out strings.Builder
	out.WriteByte('"')
	for _, char := range text {
		switch {
		case char == '"' || char == '\\':
			out.WriteString("\\" + string(char))
		case char < ' ' || char > '~':
			fmt.Fprintf(&out, "\\U%08x", char)
		default:
			out.WriteRune(char)
		}
	}
	return out.String() + `"`
}

// TestHostileTexts puts every hostile text into every free text for every target. Each
// is refused before rendering, or comes back unchanged from a reader of the file: a
// shell, an XML parser, PyYAML, or a reader of KEY=VALUE.
func TestHostileTexts(t *testing.T) {
	python := program(t, "/usr/bin/python3")
	stand := standIns(t)
	refused, carried := 0, 0
	for _, target := range stavren.Targets() {
		for _, field := range freeTexts {
			for _, text := range hostile {
				f := loaded(t, field.lines, text)
				want := text
				if f != nil && field.get != nil {
					want = field.get(f, f.Machines[0])
				}
				if f == nil || refuses(target, f) {
					refused++
					continue
				}
				options := render.Options{Secrets: func(*fleet.Secret) (string, error) { return text, nil },
					Output: "/srv/out"}
				files, err := render.All(context.Background(), target, f, options)
				if err != nil {
					// What depends on a secret's value is only found while rendering.
					if field.name != "console.password" {
						t.Errorf("%s, %s, %.40q: %v", target.Name, field.name, text, err)
					}
					refused++
					continue
				}
				carried++
				readBack(t, target.Name, field.name, want, files, python, stand)
			}
		}
	}
	t.Logf("%d texts came back, %d were refused", carried, refused)
}

func refuses(target render.Target, f *fleet.Fleet) bool {
	needs, err := stavren.Needs(target, f)
	return err != nil ||
		slices.ContainsFunc(needs, func(found finding.Finding) bool { return found.Severity == finding.Error })
}

// standIns is a folder of programs that record how they were called.
func standIns(t *testing.T) string {
	t.Helper()
	folder := t.TempDir()
	const record = "#!/bin/sh\nfor word; do printf '%s\\0' \"$word\"; done >>\"$CALLS\"\n"
	for name, text := range map[string]string{
		"qemu-system-x86_64": record,
		"qemu-img": record + "for last; do :; done\ncase $1 in create | convert) : >\"$last\" ;; esac\n" +
			"case $last in *.part) ;; *) for w; do case $w in *.part) : >\"$w\" ;; esac; done ;; esac\n",
		"swtpm": "#!/bin/sh\n", "bhyve": record + "exit 1\n", "bhyvectl": "#!/bin/sh\n",
		"ifconfig": "#!/bin/sh\n", "kldload": "#!/bin/sh\n", "sysctl": "#!/bin/sh\n",
		"route": "#!/bin/sh\necho '  interface: em0'\n",
		"pfctl": "#!/bin/sh\nprintf '%s all\\n' 'nat-anchor \"stavren/*\"' 'rdr-anchor \"stavren/*\"'\n",
		"lockf": "#!/bin/sh\nshift 5\nexec \"$@\"\n",
	} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	return folder
}

// inBoot are the fields that first-boot data carries.
var inBoot = map[string]bool{"user.full_name": true, "file.text": true, "file path": true, "script.text": true,
	"share.machine": true}

func readBack(t *testing.T, target, field, want string, files []render.File, python, stand string) {
	t.Helper()
	folder := t.TempDir()
	for _, file := range files {
		path := filepath.Join(folder, file.Name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, file.Data, file.Mode|0o400); err != nil {
			t.Fatal(err)
		}
	}
	fail := func(got any) {
		t.Errorf("%s, %s: %.60q came back as %.300q", target, field, want, fmt.Sprint(got))
	}
	data := func(name string) string {
		text, err := os.ReadFile(filepath.Join(folder, "tide", name))
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	switch {
	case target == "cloud-init" && inBoot[field]:
		if got := fromCloudConfig(t, python, filepath.Join(folder, "tide/user-data"), field); got != want &&
			got != "#!/bin/sh\n"+want {
			fail(got)
		}
	case target == "qemu" || target == "bhyve":
		calls := runWithStandIns(t, folder, stand)
		if _, err := os.Stat(filepath.Join(folder, "tide/canary")); err == nil {
			t.Errorf("%s, %s: %q was run", target, field, want)
		}
		fromRunScript(t, target, field, want, calls, data, fail)
	case target == "libvirt":
		fromDomain(field, want, data("domain.xml"), fail)
	case target == "ovf" && field == "machine.about":
		var got struct {
			Text string `xml:"VirtualSystem>AnnotationSection>Annotation"`
		}
		if err := xml.Unmarshal([]byte(data("tide.ovf")), &got); err != nil || got.Text != want {
			fail(got.Text)
		}
	}
}

// fromCloudConfig reads one value of user data with PyYAML, as cloud-init does.
func fromCloudConfig(t *testing.T, python, path, field string) string {
	t.Helper()
	const read = `
import base64, json, sys, yaml
d = yaml.safe_load(open(sys.argv[1], encoding="utf-8"))
def content(e): return base64.b64decode(e["content"]).decode("utf-8", "surrogateescape") if e.get("encoding") == "b64" else e["content"]
f = sys.argv[2]
print(json.dumps(d["users"][0].get("gecos", "") if f == "user.full_name" else d["write_files"][0]["path"] if f == "file path" else d["bootcmd"][0][5] if f == "share.machine" else content(d["write_files"][0])))
`
	out, err := exec.Command(python, "-c", read, path, field).Output()
	if err != nil {
		t.Fatalf("PyYAML: %v", err)
	}
	var text string
	if err := json.Unmarshal(out, &text); err != nil {
		t.Fatal(err)
	}
	return text
}

// runWithStandIns runs run.sh and returns the words of every call.
func runWithStandIns(t *testing.T, folder, stand string) []string {
	t.Helper()
	log := filepath.Join(folder, "calls")
	base := filepath.Join(folder, "base")
	if err := os.WriteFile(base, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	script, err := os.ReadFile(filepath.Join(folder, "tide/run.sh"))
	if err != nil {
		t.Fatal(err)
	}
	// The files that it would look for don't need to exist; only the arguments matter.
	text := strings.ReplaceAll(string(script), `[ -r "$image" ] ||`, `[ -r / ] ||`)
	text = strings.ReplaceAll(text, `[ -r "$start" ] ||`, `[ -r / ] ||`)
	text = strings.ReplaceAll(text, `[ -r "$4" ] ||`, `[ -r / ] ||`)
	text = strings.ReplaceAll(text, `$(head -c 4 "$image" |`, `$(head -c 4 /dev/null |`)
	text = strings.ReplaceAll(text, `"$(stat -f %z "$1.part")" -le`, `0 -le`)
	text = strings.ReplaceAll(text, "/usr/local/share/uefi-firmware", folder)
	text = strings.ReplaceAll(text, "start_share charts", ": start_share charts")
	if strings.Contains(text, ": start_share charts") {
		text = strings.ReplaceAll(text, ": start_share charts", `printf 'share\0%s\0' >>"$CALLS" `)
	}
	for _, name := range []string{"BHYVE_UEFI_CODE.fd", "BHYVE_UEFI_VARS.fd"} {
		if err := os.WriteFile(filepath.Join(folder, name), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	path := filepath.Join(folder, "tide/run-test.sh")
	if err := os.WriteFile(path, []byte(text), 0o755); err != nil {
		t.Fatal(err)
	}
	c := exec.Command("sh", path)
	c.Env = []string{"PATH=" + stand + ":" + os.Getenv("PATH"), "CALLS=" + log, "STAVREN_ACCEL=tcg", "HOME=/"}
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("run.sh: %v\n%s\n%s", err, out, text)
	}
	words, err := os.ReadFile(log)
	if err != nil {
		t.Fatal(err)
	}
	return strings.Split(string(words), "\x00")
}

// beside returns the path of a definition's file as seen from a machine's folder.
func beside(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return "../" + filepath.Clean(name)
}

func fromRunScript(t *testing.T, target, field, want string, calls []string, data func(string) string, fail func(any)) {
	t.Helper()
	has := func(word string) bool { return slices.Contains(calls, word) }
	qemuFile := func(word string) bool {
		return slices.ContainsFunc(calls, func(call string) bool {
			_, value, ok := strings.Cut(call, "file.filename=")
			return ok && strings.ReplaceAll(value, ",,", ",") == word
		})
	}
	switch {
	case field == "image.file" || field == "disk.start":
		if !has(beside(want)) {
			fail(calls)
		}
	case field == "share.host" && target == "qemu":
		if !has(beside(want)) {
			fail(calls)
		}
	case field == "medium.file" && target == "qemu":
		if !qemuFile(beside(want)) {
			fail(calls)
		}
	case field == "share.host":
		path := want
		if !filepath.IsAbs(path) {
			path = filepath.Join("/srv/out/tide", beside(want))
		}
		if !strings.Contains("\n"+data("bhyve.conf"), ".path="+strings.ReplaceAll(path, "%", "%%")+"\n") {
			fail(data("bhyve.conf"))
		}
	case field == "medium.file":
		if !strings.Contains("\n"+data("bhyve.conf"), ".path="+strings.ReplaceAll(beside(want), "%", "%%")+"\n") {
			fail(data("bhyve.conf"))
		}
	case field == "console.password" && target == "qemu":
		if data("console.password") != want {
			fail(data("console.password"))
		}
	case field == "console.password":
		if !strings.Contains(data("bhyve.conf"), ".password="+strings.ReplaceAll(want, "%", "%%")+"\n") {
			fail(data("bhyve.conf"))
		}
	}
}

func fromDomain(field, want, text string, fail func(any)) {
	var got struct {
		Description string `xml:"description"`
		Devices     struct {
			Disks []struct {
				Source struct {
					File string `xml:"file,attr"`
				} `xml:"source"`
			} `xml:"disk"`
			Shares []struct {
				Source struct {
					Dir string `xml:"dir,attr"`
				} `xml:"source"`
			} `xml:"filesystem"`
			Graphics struct {
				Password string `xml:"passwd,attr"`
			} `xml:"graphics"`
		} `xml:"devices"`
	}
	if err := xml.Unmarshal([]byte(text), &got); err != nil {
		fail(err)
		return
	}
	absolute := filepath.Join("/srv/out/tide", beside(want))
	if filepath.IsAbs(want) {
		absolute = want
	}
	switch field {
	case "machine.about":
		if got.Description != want {
			fail(got.Description)
		}
	case "share.host":
		if got.Devices.Shares[0].Source.Dir != absolute {
			fail(got.Devices.Shares[0].Source.Dir)
		}
	case "medium.file":
		if got.Devices.Disks[len(got.Devices.Disks)-1].Source.File != absolute {
			fail(got.Devices.Disks[len(got.Devices.Disks)-1].Source.File)
		}
	case "console.password":
		if got.Devices.Graphics.Password != want {
			fail(got.Devices.Graphics.Password)
		}
	}
}
