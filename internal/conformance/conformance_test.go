// Package conformance holds what is rendered against the programs that read it:
// cloud-init's own schema checker, netplan, and the YAML reader that cloud-init
// uses. Where a program is missing its test skips; CI installs all of them.
package conformance

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"stavren.example/stavren/examples"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/load"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// fleets are what is rendered here: the demo, a machine with few keys, and one with
// hostile text in every free text.
func fleets(t *testing.T) map[string]*fleet.Fleet {
	t.Helper()
	demo, err := load.Load(t.Context(), examples.TideOffice(), "tide-office.stavren.yaml", load.Options{})
	if err != nil {
		t.Fatal(err)
	}
	bare, err := load.Parse(t.Context(), fstest.MapFS{}, "bare.stavren.yaml", []byte("stavren: 1\nfleet: bare\n"+
		"images: {i: {os: debian-12, file: i.qcow2}}\nmachines: {bare: {image: i}}\n"), load.Options{})
	if err != nil {
		t.Fatal(err)
	}
	hostile := &fleet.Fleet{Name: "hostile", Images: []*fleet.Image{{Name: "i", OS: "debian-12", File: "i.qcow2"}}}
	m := &fleet.Machine{Name: "yes", Image: "i", About: "a\nb: {",
		FirstBoot: &fleet.FirstBoot{Packages: []string{"0ad", "g++", "no", "1e3"}}}
	for i, text := range hostileTexts {
		m.FirstBoot.Files = append(m.FirstBoot.Files, &fleet.File{Path: "/tmp/" + hostileTexts[0] + string(rune('a'+i)),
			Content: fleet.Content{Text: text}})
	}
	for _, name := range []string{"null", "on", "mira", "n"} {
		m.Users = append(m.Users, &fleet.User{Name: name, FullName: "Eyð \"Dam\" 'x' $(id) # {",
			Groups: []string{"adm"}})
	}
	hostile.Machines = append(hostile.Machines, m)
	hostile.Complete()
	return map[string]*fleet.Fleet{"demo": demo, "bare": bare, "hostile": hostile, "families": families()}
}

// families has a machine of every family, with every key of first_boot.
func families() *fleet.Fleet {
	f := &fleet.Fleet{Name: "families", Keys: []*fleet.Key{{Name: "ops", Content: fleet.Content{Text: opsKey}}},
		Networks: []*fleet.Network{
			{Name: "quay", Subnet: netip.MustParsePrefix("10.44.7.0/24"), Search: []string{"skerry.example"}},
			{Name: "reef", Mode: fleet.Isolated, Subnet: netip.MustParsePrefix("10.44.9.0/24")},
		}}
	for i, system := range []string{"debian-12", "ubuntu-24.04", "fedora-44", "almalinux-9", "opensuse-leap-16.0",
		"alpine-3.22", "arch", "freebsd-14"} {
		f.Images = append(f.Images, &fleet.Image{Name: system, OS: system, File: system + ".qcow2"})
		f.Machines = append(f.Machines, &fleet.Machine{
			Name: fmt.Sprintf("gauge-%d", i), Image: system, Domain: "skerry.example", Language: "en_DK.UTF-8",
			Keyboard: "dk",
			Time:     fleet.Time{Zone: "Atlantic/Faroe", Servers: []string{"ntp.skerry.example"}},
			Disks: []*fleet.Disk{{Name: "readings", Size: fleet.GiB, FileSystem: "ext4", Mount: "/srv/readings",
				Options: []string{"noatime"}}},
			NICs: []*fleet.NIC{{Name: "quay", Also: []netip.Prefix{netip.MustParsePrefix("10.44.7.200/24")},
				Routes: []*fleet.Route{{To: netip.MustParsePrefix("10.45.0.0/16"),
					Via: netip.MustParseAddr("10.44.7.2")}}},
				{Name: "reef", Address: netip.MustParseAddr(fmt.Sprintf("10.44.9.%d", 20+i))}},
			Users: []*fleet.User{
				{Name: "mira", FullName: "Mira Holm", UID: 1500, Groups: []string{"adm"},
					Admin: fleet.AdminWithPassword, Keys: []string{"ops"}, PasswordHash: "$6$salt$hash",
					Home: "/srv/mira", Shell: "/bin/sh"},
				{Name: "eyd", Admin: fleet.AdminWithoutPassword, Locked: true,
					Expires: time.Date(2027, time.January, 31, 0, 0, 0, 0, time.UTC)},
			},
			SSH:    fleet.SSH{RootLogin: fleet.RootLoginByAnyWay, PasswordLogin: true},
			Shares: []*fleet.Share{{Name: "charts", Host: "charts", Machine: "/srv/the charts", ReadOnly: true}},
			FirstBoot: &fleet.FirstBoot{Refresh: true, Upgrade: true, Restart: true, Packages: []string{"nginx"},
				Services: []string{"nginx"}, Swap: fleet.GiB, GuestTools: true,
				Sources: []*fleet.PackageSource{{Name: "tides", URL: "https://packages.skerry.example/x",
					Key: "-----BEGIN PGP PUBLIC KEY BLOCK-----\nx\n"}},
				Files: []*fleet.File{{Path: "/etc/tide", Content: fleet.Content{Text: "\xff\x00"}, Mode: 0o600,
					Owner: "mira:mira"}},
				Scripts: []*fleet.Script{{Name: "a", Content: fleet.Content{Text: ":\n"}},
					{Name: "b", When: fleet.EveryBoot, RunAs: "mira", Content: fleet.Content{Text: ":\n"}}},
			},
		})
	}
	f.Complete()
	return f
}

var hostileTexts = []string{
	"it's \"quoted\" $(id) `id` %s", "a\nb\n", "\n\na\n", " a\n", "a \n", "\ta\n", "a\r\nb\r\n", "yes", "0o17", "017",
	"1:30", "~", "null", "",
	"- a\n- b\n", "a: b\n", "# a\n", "%YAML 1.1\n", "---\n", "...\n", "🌊 é \u0085 \u2028 \ufeff", "\xff\x00\x01",
	"{{ x }}", "]]>", `"""`, "!tag", "&a *a",
	strings.Repeat("x", 10000), strings.Repeat("long line ", 300) + "\n",
}

// rendered writes the files of a target into a folder and returns the machines' folders.
func rendered(t *testing.T, f *fleet.Fleet) []string {
	t.Helper()
	options := render.Options{Secrets: func(secret *fleet.Secret) (string, error) { return "high " + secret.Name, nil }}
	for _, m := range f.Machines {
		if catalog.Of(f, m).Family.Name != catalog.Windows { // whose data is an archive for another reader
			options.Machines = append(options.Machines, m.Name)
		}
	}
	files, err := render.All(context.Background(), cloudinit.Target, f, options)
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	var machines []string
	for _, name := range options.Machines {
		machines = append(machines, filepath.Join(folder, name))
		if err := os.Mkdir(filepath.Join(folder, name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for _, file := range files {
		if err := os.WriteFile(filepath.Join(folder, file.Name), file.Data, file.Mode); err != nil {
			t.Fatal(err)
		}
	}
	return machines
}

func program(t *testing.T, names ...string) string {
	t.Helper()
	for _, name := range names {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	t.Skipf("%s is not installed here", names[0])
	return ""
}

func TestCloudInitSchema(t *testing.T) {
	cloudInit := program(t, "cloud-init")
	for name, f := range fleets(t) {
		for _, folder := range rendered(t, f) {
			out, err := exec.Command(cloudInit, "schema", "--config-file",
				filepath.Join(folder, "user-data")).CombinedOutput()
			if err != nil || !strings.Contains(string(out), "Valid") ||
				strings.Contains(strings.ToLower(string(out)), "deprecat") ||
				strings.Contains(strings.ToLower(string(out)), "warning") {
				t.Errorf("%s: %v\n%s", name, err, out)
			}
		}
	}
}

// TestNetplan gives netplan the network configuration as cloud-init passes it
// on: below the key network.
func TestNetplan(t *testing.T) {
	netplan := program(t, "netplan", "/usr/sbin/netplan")
	for name, f := range fleets(t) {
		for _, folder := range rendered(t, f) {
			data, err := os.ReadFile(filepath.Join(folder, "network-config"))
			if err != nil {
				t.Fatal(err)
			}
			root := t.TempDir()
			if err := os.MkdirAll(filepath.Join(root, "etc/netplan"), 0o755); err != nil {
				t.Fatal(err)
			}
			wrapped := "network:\n  " + strings.ReplaceAll(strings.TrimSpace(string(data)), "\n", "\n  ") + "\n"
			if err := os.WriteFile(filepath.Join(root, "etc/netplan/50-cloud-init.yaml"), []byte(wrapped),
				0o600); err != nil {
				t.Fatal(err)
			}
			out, err := exec.Command(netplan, "generate", "--root-dir", root).CombinedOutput()
			if err != nil || len(out) > 0 {
				t.Errorf("%s: %v\n%s\n%s", name, err, out, wrapped)
			}
			made, err := filepath.Glob(filepath.Join(root, "run/systemd/network/*.network"))
			if err != nil || len(made) == 0 {
				t.Errorf("%s: netplan made nothing of\n%s", name, wrapped)
			}
		}
	}
}

// TestPyYAML reads user data as cloud-init does, with PyYAML, and compares every
// text of the hostile machine byte for byte.
func TestPyYAML(t *testing.T) {
	python := program(t, "/usr/bin/python3")
	if err := exec.Command(python, "-c", "import yaml").Run(); err != nil {
		t.Skip("PyYAML is not installed here")
	}
	f := fleets(t)["hostile"]
	m := f.Machines[0]
	folder := rendered(t, f)[0]
	const read = `
import base64, json, sys, yaml
d = yaml.safe_load(open(sys.argv[1], encoding="utf-8"))
def content(e):
    c = e["content"]
    return base64.b64decode(c).hex() if e.get("encoding") == "b64" else c.encode("utf-8", "surrogatepass").hex()
json.dump({"files": [[e["path"], content(e)] for e in d["write_files"]],
           "users": [[u["name"], u["gecos"]] for u in d["users"]],
           "packages": d["packages"], "hostname": d["hostname"]}, sys.stdout)
`
	out, err := exec.Command(python, "-c", read, filepath.Join(folder, "user-data")).Output()
	if err != nil {
		t.Fatalf("PyYAML: %v", err)
	}
	var got struct {
		Files, Users [][2]string
		Packages     []string
		HostName     string `json:"hostname"`
	}
	if err := json.Unmarshal(out, &got); err != nil {
		t.Fatal(err)
	}
	if len(got.Files) != len(m.FirstBoot.Files) {
		t.Fatalf("%d files came back of %d", len(got.Files), len(m.FirstBoot.Files))
	}
	for i, file := range m.FirstBoot.Files {
		if got.Files[i][0] != file.Path || got.Files[i][1] != hexOf(file.Text) {
			t.Errorf("file %d, %.60q: path %q, content differs: %v", i, file.Text, got.Files[i][0],
				got.Files[i][1] != hexOf(file.Text))
		}
	}
	for i, user := range m.Users {
		if got.Users[i] != [2]string{user.Name, user.FullName} {
			t.Errorf("user %d: got %q", i, got.Users[i])
		}
	}
	if strings.Join(got.Packages, " ") != strings.Join(m.FirstBoot.Packages, " ") || got.HostName != "yes" {
		t.Errorf("packages %q, host name %q", got.Packages, got.HostName)
	}
}

func hexOf(text string) string {
	const digits = "0123456789abcdef"
	out := make([]byte, 0, 2*len(text))
	for i := range len(text) {
		out = append(out, digits[text[i]>>4], digits[text[i]&15])
	}
	return string(out)
}
