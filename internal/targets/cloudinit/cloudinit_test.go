package cloudinit_test

import (
	"bytes"
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// TestDemo compares the rendered demo with files that people have reviewed.
func TestDemo(t *testing.T) {
	golden.Compare(t, golden.Render(t, cloudinit.Target, golden.Demo(t), golden.Machines...))
}

// machine builds a fleet of one machine in Go.
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
	data, err := cloudinit.UserData(&render.Job{Fleet: f}, m, cloudinit.Virtio)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.HasPrefix(data.Text, []byte("#cloud-config\n")) {
		t.Errorf("user data starts with %.20q", data.Text)
	}
	var document map[string]any
	if err := yaml.Load(data.Text, &document); err != nil {
		t.Fatalf("%v\n%s", err, data.Text)
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
		t.Run(c.path, func(t *testing.T) {
			document := userData(t, func(_ *fleet.Fleet, m *fleet.Machine) {
				m.Disks = []*fleet.Disk{{Name: "pages", Size: fleet.GiB, FileSystem: "ext4", Mount: "/srv/pages"}}
				m.FirstBoot.Files = []*fleet.File{{Path: c.path, Owner: c.owner, Content: fleet.Content{Text: "x"}}}
			})
			file := document["write_files"].([]any)[0].(map[string]any)
			if _, waits := file["defer"]; waits != c.waits {
				t.Errorf("%s of %s: waits %v, want %v", c.path, c.owner, waits, c.waits)
			}
		})
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

// TestInstanceID checks that the id changes exactly when first-boot content does.
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
		"memory": {func(_ *fleet.Fleet, m *fleet.Machine) { m.Resources.Memory = 8 * fleet.GiB }, true},
		"port":   {func(_ *fleet.Fleet, m *fleet.Machine) { m.Ports = []*fleet.Port{{Name: "x", Machine: 1}} }, true},
		"about":  {func(_ *fleet.Fleet, m *fleet.Machine) { m.About = "tides" }, true},
		"address": {func(_ *fleet.Fleet, m *fleet.Machine) {
			m.NICs = []*fleet.NIC{{Name: "inner", Address: netip.MustParseAddr("10.177.0.9")}}
		}, false},
		"package": {func(_ *fleet.Fleet, m *fleet.Machine) { m.FirstBoot.Packages = []string{"x"} }, false},
		"user":    {func(_ *fleet.Fleet, m *fleet.Machine) { m.Users = []*fleet.User{{Name: "mira"}} }, false},
		"boothook": {func(_ *fleet.Fleet, m *fleet.Machine) {
			m.FirstBoot.Scripts = []*fleet.Script{{Name: "early", Content: fleet.Content{Text: "#cloud-boothook\n:\n"}}}
		}, false},
		"neighbour": {func(f *fleet.Fleet, m *fleet.Machine) {
			f.Networks = []*fleet.Network{{Name: "inner", Mode: fleet.Isolated, Subnet: fleet.DefaultSubnet}}
			f.Machines = append(f.Machines, &fleet.Machine{Name: "other", Image: m.Image,
				NICs: []*fleet.NIC{{Name: "inner", Address: netip.MustParseAddr("10.177.0.9")}}})
		}, true},
	} {
		t.Run(name, func(t *testing.T) {
			if got := id(c.change); (got == plain) != c.same {
				t.Errorf("changing the %s: id %s, before %s", name, got, plain)
			}
		})
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
	got, err := cloudinit.NetworkConfig(f, m, cloudinit.Virtio)
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
    dhcp4-overrides: {use-routes: false, route-metric: 1000}
    optional: true
`
	if string(got) != want {
		t.Errorf("got:\n%s", got)
	}
}

func TestUnknownNetworkIsAnError(t *testing.T) {
	f, m := machine(func(_ *fleet.Fleet, m *fleet.Machine) { m.NICs = []*fleet.NIC{{Name: "nowhere"}} })
	if _, err := cloudinit.NetworkConfig(f, m, cloudinit.Virtio); err == nil ||
		!strings.Contains(err.Error(), "nowhere") {
		t.Errorf("error %v", err)
	}
}

// FuzzText checks that any text of a file comes back whole.
func FuzzText(f *testing.F) {
	for _, text := range []string{"", "x", "yes", "0", "a: b", " x\n", "x\n y\n", "\t\n", "a\r\nb", "🌊\n", "\x85\n",
		"#\n", "\xff", "a\n\n\n", "%\n", "x \n", "|\n"} {
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

func TestServicesAndRunAs(t *testing.T) {
	for system, want := range map[string]string{
		"debian-12":   "#!/bin/sh\nset -eu\nsystemctl enable --now nginx\n",
		"alpine-3.22": "#!/bin/sh\nset -eu\nrc-update add nginx default\nrc-service nginx start\n",
		"freebsd-14":  "#!/bin/sh\nset -eu\nservice nginx enable\nservice nginx start\n",
	} {
		t.Run(system, func(t *testing.T) {
			document := userData(t, func(f *fleet.Fleet, m *fleet.Machine) {
				f.Images[0].OS = system
				m.FirstBoot.Services = []string{"nginx"}
				m.FirstBoot.Scripts = []*fleet.Script{{Name: "s", RunAs: "mira", Content: fleet.Content{Text: "id"}}}
			})
			files := document["write_files"].([]any)
			if got := files[2].(map[string]any)["content"]; got != want {
				t.Errorf("%s: got %q", system, got)
			}
			own, starter := files[0].(map[string]any), files[1].(map[string]any)
			if own["owner"] != "mira:mira" || own["defer"] != true ||
				starter["content"] != "#!/bin/sh\nexec su - mira -c "+own["path"].(string)+"\n" {
				t.Errorf("%s: %v %v", system, own, starter)
			}
		})
	}
}

func TestPackageSources(t *testing.T) {
	source := []*fleet.PackageSource{{Name: "tides", URL: "https://packages.skerry.example", Suite: "bookworm",
		Components: []string{"main"}}}
	for system, want := range map[string]string{
		"debian-12": "map[apt:map[sources:map[tides.list:map[source:deb https://packages.skerry.example " +
			"bookworm main]]]]",
		"fedora-44": "map[yum_repos:map[tides:map[baseurl:https://packages.skerry.example enabled:true " +
			"gpgcheck:false name:tides]]]",
		"opensuse-leap-16.0": "map[zypper:map[repos:[map[autorefresh:1 baseurl:https://packages.skerry.example " +
			"enabled:1 gpgcheck:0 id:tides name:tides]]]]",
		"alpine-3.22": "map[bootcmd:[[sh -c grep -qxF \"$2\" \"$1\" || printf '%s\\n" +
			"' \"$2\" >>\"$1\" stavren /etc/apk/repositories https://packages.skerry.example]]]",
		"arch": "map[bootcmd:[[sh -c grep -qxF \"$2\" \"$1\" || printf '%s\\n" +
			"' \"$2\" >>\"$1\" stavren /etc/pacman.conf Include = /etc/pacman.d/tides.conf]] " +
			"write_files:[map[content:[tides]\nServer = https://packages.skerry.example\n" +
			"SigLevel = Optional TrustAll\n owner:root:root path:/etc/pacman.d/tides.conf permissions:0644]]]",
		"freebsd-14": "map[write_files:[map[content:tides: {\n  url: \"https://packages.skerry.example\"\n" +
			"  enabled: yes\n}\n owner:root:wheel path:/usr/local/etc/pkg/repos/tides.conf permissions:0644]]]",
	} {
		t.Run(system, func(t *testing.T) {
			document := userData(t, func(f *fleet.Fleet, m *fleet.Machine) {
				f.Images[0].OS = system
				m.FirstBoot.Sources = source
			})
			got := map[string]any{}
			for _, key := range []string{"apt", "yum_repos", "zypper", "bootcmd", "write_files"} {
				if document[key] != nil {
					got[key] = document[key]
				}
			}
			if fmt.Sprint(got) != want {
				t.Errorf("%s: got %v", system, got)
			}
		})
	}
}

// texts returns the user data of a machine as it is written.
func texts(t *testing.T, change func(f *fleet.Fleet, m *fleet.Machine)) string {
	t.Helper()
	f, m := machine(change)
	job := &render.Job{Fleet: f, Options: render.Options{Secrets: func(*fleet.Secret) (string,
		error) {
		return "high water", nil
	}}}
	data, err := cloudinit.UserData(job, m, cloudinit.Virtio)
	if err != nil {
		t.Fatal(err)
	}
	return string(data.Text)
}

func wantAll(t *testing.T, text string, parts ...string) {
	t.Helper()
	for _, part := range parts {
		if !strings.Contains(text, part) {
			t.Errorf("%q is missing from\n%s", part, text)
		}
	}
}

func TestFreeBSD(t *testing.T) {
	text := texts(t, func(f *fleet.Fleet, m *fleet.Machine) {
		f.Images[0].OS = "freebsd-14"
		m.Keyboard = "dk"
		m.FirstBoot.Swap = fleet.GiB
		m.Disks = []*fleet.Disk{{Name: "log", Size: fleet.GiB, FileSystem: "ext4", Mount: "/srv/log", Serial: "log-1"}}
		m.FirstBoot.Files = []*fleet.File{{Path: "/etc/a"}, {Path: "/etc/b", Owner: "root:operator"}}
	})
	wantAll(t, text, "root:wheel", "root:operator", "newfs -U -L", "!= log-1 ]",
		`stavren, log, /srv/log, "rw,failok"]`)
	for _, word := range []string{"fs_setup", "mounts:", "keyboard", "swap", "root:root", "/dev/diskid"} {
		if strings.Contains(text, word) {
			t.Errorf("FreeBSD gets %s:\n%s", word, text)
		}
	}
}

func TestWindows(t *testing.T) {
	text := texts(t, func(f *fleet.Fleet, m *fleet.Machine) {
		f.Images[0].OS = "windows-server-2025"
		f.Secrets = []*fleet.Secret{{Name: "door", Env: "DOOR"}}
		m.Time.Zone = "Atlantic/Faroe"
		m.Users = []*fleet.User{{Name: "mira", FullName: "Mira Holm", Admin: fleet.AdminWithPassword, Password: "door"}}
		m.FirstBoot.Packages = []string{"nginx"}
		m.FirstBoot.Services = []string{"W32Time"}
		m.FirstBoot.Scripts = []*fleet.Script{
			{Name: "pier", Content: fleet.Content{Text: "Write-Output 'open'\n"}},
			{Name: "gate", Content: fleet.Content{Text: "@echo off\nver\n"}},
			{Name: "clock", When: fleet.EveryBoot, Content: fleet.Content{Text: "Get-Date\n"}},
		}
	})
	wantAll(t, text, "Content-Type: multipart/mixed", "groups: Administrators", "passwd: high water",
		"set_timezone: Atlantic/Faroe",
		`filename="01-pier.ps1"`, "Write-Output 'open'\n", `filename="02-gate.cmd"`, `filename="99-services.ps1"`,
		"Start-Service -Name 'W32Time'",
		`C:\ProgramData\stavren\03-clock.ps1`, "Register-ScheduledTask")
	if strings.Contains(text, "nginx") {
		t.Error("Windows gets packages")
	}
}

// TestNeighbours runs the boot command that names neighbours twice in a shell.
