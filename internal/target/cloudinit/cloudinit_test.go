package cloudinit_test

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/examples"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/source"
	"stavren.example/stavren/internal/target/cloudinit"
	"stavren.example/stavren/render"
)

var update = flag.Bool("update", false, "rewrite the golden files")

// TestDemo compares what the demo fleet renders to with files that were read
// and found good.
func TestDemo(t *testing.T) {
	f, err := source.Load(examples.TideOffice(), "tide-office.stavren.yaml", source.Options{})
	if err != nil {
		t.Fatal(err)
	}
	files, err := render.All(context.Background(), cloudinit.Target, f, render.Options{})
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range files {
		name := filepath.Join("testdata", strings.ReplaceAll(file.Name, "/", "."))
		if *update {
			if err := os.WriteFile(name, file.Data, 0o644); err != nil {
				t.Fatal(err)
			}
		}
		want, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(file.Data, want) {
			t.Errorf("%s differs; go test -update rewrites it. got:\n%s", name, file.Data)
		}
	}
}

// machine is a fleet of one machine that a program built.
func machine(change func(f *fleet.Fleet, m *fleet.Machine)) (*fleet.Fleet, *fleet.Machine) {
	m := &fleet.Machine{Name: "almanac", Image: "bookworm", FirstBoot: &fleet.FirstBoot{}}
	f := &fleet.Fleet{Name: "tide-office", Machines: []*fleet.Machine{m},
		Images: []*fleet.Image{{Name: "bookworm", OS: "debian-12", File: "debian.qcow2"}}}
	change(f, m)
	f.Complete()
	return f, m
}

func userData(t *testing.T, change func(f *fleet.Fleet, m *fleet.Machine)) map[string]any {
	t.Helper()
	f, m := machine(change)
	data, _, err := cloudinit.UserData(&render.Job{Fleet: f}, m, cloudinit.Virtio)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.HasPrefix(data, []byte("#cloud-config\n")) {
		t.Errorf("user data starts with %.20q", data)
	}
	var document map[string]any
	if err := yaml.Load(data, &document); err != nil {
		t.Fatalf("%v\n%s", err, data)
	}
	return document
}

func TestNoUsersMeansNoLogin(t *testing.T) {
	document := userData(t, func(*fleet.Fleet, *fleet.Machine) {})
	if users, ok := document["users"].(map[string]any); !ok || len(users) != 0 {
		t.Errorf("users is %v, and cloud-init would make the image's own login", document["users"])
	}
	if document["ssh_pwauth"] != false || document["disable_root"] != true {
		t.Errorf("password and root login are left to the image: %v", document)
	}
}

func TestAdminRights(t *testing.T) {
	document := userData(t, func(f *fleet.Fleet, m *fleet.Machine) {
		f.Images[0].OS = "fedora-44"
		m.Users = []*fleet.User{
			{Name: "mira", Admin: fleet.AdminWithoutPassword},
			{Name: "eyd", Admin: fleet.AdminWithPassword, Groups: []string{"adm"}},
			{Name: "jonas", Shell: "/bin/zsh"},
		}
	})
	got := fmt.Sprint(document["users"])
	want := "[map[lock_passwd:true name:mira shell:/bin/bash sudo:ALL=(ALL) NOPASSWD:ALL]" +
		" map[groups:[adm wheel] lock_passwd:true name:eyd shell:/bin/bash]" +
		" map[lock_passwd:true name:jonas shell:/bin/zsh]]"
	if got != want {
		t.Errorf(" got %s\nwant %s", got, want)
	}
}

func TestFilesWait(t *testing.T) {
	for _, c := range []struct {
		path, owner string
		waits       bool
	}{
		{"/etc/motd", "root:root", false},
		{"/etc/store.conf", "root:adm", false},
		{"/home/mira/.profile", "mira:mira", true},
		{"/etc/web.conf", "root:www-data", true},
		{"/srv/pages/index.html", "root:root", true},
		{"/srv/pages2/index.html", "root:root", false},
	} {
		document := userData(t, func(_ *fleet.Fleet, m *fleet.Machine) {
			m.Disks = []*fleet.Disk{{Name: "pages", Size: fleet.GiB, FileSystem: "ext4", Mount: "/srv/pages"}}
			m.FirstBoot.Files = []*fleet.File{{Path: c.path, Owner: c.owner, Content: fleet.Content{Text: "x"}}}
		})
		file := document["write_files"].([]any)[0].(map[string]any)
		if _, waits := file["defer"]; waits != c.waits {
			t.Errorf("%s of %s: waits %v, want %v", c.path, c.owner, waits, c.waits)
		}
	}
}

func TestScripts(t *testing.T) {
	document := userData(t, func(_ *fleet.Fleet, m *fleet.Machine) {
		m.FirstBoot.Scripts = []*fleet.Script{
			{Name: "b", Content: fleet.Content{Text: "echo b\n"}},
			{Name: "tide", When: fleet.EveryBoot, Content: fleet.Content{Text: "#!/bin/bash\necho\n"}},
			{Name: "a", Content: fleet.Content{Text: "#!/usr/bin/python3\r\nprint()\n"}},
		}
	})
	var got []string
	for _, file := range document["write_files"].([]any) {
		file := file.(map[string]any)
		got = append(got, fmt.Sprintf("%s %s %q", file["path"], file["permissions"], file["content"]))
	}
	want := []string{
		`/var/lib/cloud/instance/scripts/01-b 0700 "#!/bin/sh\necho b\n"`,
		`/var/lib/cloud/scripts/per-boot/01-tide 0700 "#!/bin/bash\necho\n"`,
		`/var/lib/cloud/instance/scripts/02-a 0700 "#!/usr/bin/python3\r\nprint()\n"`,
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf(" got %s\nwant %s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// TestInstanceID holds that the id changes exactly when first-boot content does.
func TestInstanceID(t *testing.T) {
	id := func(change func(f *fleet.Fleet, m *fleet.Machine)) string {
		f, m := machine(change)
		files, err := cloudinit.Files(&render.Job{Fleet: f}, m, cloudinit.Virtio)
		if err != nil {
			t.Fatal(err)
		}
		var meta map[string]string
		if err := yaml.Load(files[1].Data, &meta); err != nil {
			t.Fatal(err)
		}
		return meta["instance-id"]
	}
	plain := id(func(*fleet.Fleet, *fleet.Machine) {})
	for name, c := range map[string]struct {
		change func(f *fleet.Fleet, m *fleet.Machine)
		same   bool
	}{
		"memory":  {func(_ *fleet.Fleet, m *fleet.Machine) { m.Resources.Memory = 8 * fleet.GiB }, true},
		"port":    {func(_ *fleet.Fleet, m *fleet.Machine) { m.Ports = []*fleet.Port{{Name: "x", Machine: 1}} }, true},
		"about":   {func(_ *fleet.Fleet, m *fleet.Machine) { m.About = "tides" }, true},
		"package": {func(_ *fleet.Fleet, m *fleet.Machine) { m.FirstBoot.Packages = []string{"x"} }, false},
		"user":    {func(_ *fleet.Fleet, m *fleet.Machine) { m.Users = []*fleet.User{{Name: "mira"}} }, false},
	} {
		if got := id(c.change); (got == plain) != c.same {
			t.Errorf("changing the %s: id %s, before %s", name, got, plain)
		}
	}
}

func TestNetworkConfig(t *testing.T) {
	f, m := machine(func(f *fleet.Fleet, m *fleet.Machine) {
		f.Networks = []*fleet.Network{
			{Name: "quay", Subnet: netip.MustParsePrefix("10.44.7.0/24"), Search: []string{"skerry.example"}},
			{Name: "pier", Subnet: netip.MustParsePrefix("10.44.8.0/24")},
		}
		m.NICs = []*fleet.NIC{
			{Name: "quay", Address: netip.MustParseAddr("10.44.7.20"), HardwareAddress: "02:00:00:00:00:01"},
			{Name: "second", Network: "pier", HardwareAddress: "02:00:00:00:00:02"},
		}
	})
	got, err := cloudinit.NetworkConfig(f, m)
	if err != nil {
		t.Fatal(err)
	}
	want := `version: 2
ethernets:
  quay:
    match:
      macaddress: "02:00:00:00:00:01"
    set-name: eth0
    addresses: ["10.44.7.20/24"]
    routes:
    - {to: "0.0.0.0/0", via: "10.44.7.1"}
    nameservers:
      addresses: ["10.44.7.1"]
      search: [skerry.example]
  second:
    match:
      macaddress: "02:00:00:00:00:02"
    set-name: eth1
    dhcp4: true
`
	if string(got) != want {
		t.Errorf("got:\n%s", got)
	}
}

func TestUnknownNetworkIsAnError(t *testing.T) {
	f, m := machine(func(_ *fleet.Fleet, m *fleet.Machine) { m.NICs = []*fleet.NIC{{Name: "nowhere"}} })
	if _, err := cloudinit.NetworkConfig(f, m); err == nil || !strings.Contains(err.Error(), "nowhere") {
		t.Errorf("error %v", err)
	}
}

// FuzzText holds that any text of a file comes back whole.
func FuzzText(f *testing.F) {
	for _, text := range []string{"", "x", "yes", "0", "a: b", " x\n", "x\n y\n", "\t\n", "a\r\nb", "🌊\n", "\x85\n", "#\n", "\xff", "a\n\n\n", "%\n", "x \n", "|\n"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		document := userData(t, func(_ *fleet.Fleet, m *fleet.Machine) {
			m.FirstBoot.Files = []*fleet.File{{Path: "/f", Content: fleet.Content{Text: text}}}
		})
		file := document["write_files"].([]any)[0].(map[string]any)
		if got := decoded(t, file); got != text {
			t.Errorf("%q comes back as %q", text, got)
		}
	})
}
