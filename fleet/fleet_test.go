package fleet_test

import (
	"errors"
	"io/fs"
	"net/netip"
	"testing"

	"stavren.example/stavren/fleet"
)

func TestBytes(t *testing.T) {
	for _, c := range []struct {
		text   string
		want   fleet.Bytes
		string string
	}{
		{"512MiB", 512 * fleet.MiB, "512MiB"},
		{"1024MiB", fleet.GiB, "1GiB"},
		{"20GB", 20 * fleet.GB, "20GB"},
		{"1KB", 1000, "1KB"},
		{"100B", 100, "100B"},
		{"0B", 0, "0B"},
		{"2 GiB", 2 * fleet.GiB, "2GiB"},
		{"8192TiB", 8192 * fleet.TiB, "8192TiB"},
	} {
		t.Run(c.text, func(t *testing.T) {
			got, err := fleet.ParseBytes(c.text)
			if err != nil || got != c.want || got.String() != c.string {
				t.Errorf("%q: got %v (%d), %v", c.text, got, got, err)
			}
		})
	}
	for text, want := range map[string]error{
		"512": fleet.ErrNoUnit, "2G": fleet.ErrUnknownUnit, "2gib": fleet.ErrUnknownUnit, "8193TiB": fleet.ErrTooMuch,
		"": nil, "GiB": nil, "-1GiB": nil, "+1GiB": nil, "1.5GiB": nil, "0x1GiB": nil, "99999999999999999999GiB": nil,
	} {
		t.Run(text, func(t *testing.T) {
			_, err := fleet.ParseBytes(text)
			if err == nil || want != nil && !errors.Is(err, want) {
				t.Errorf("%q: error %v, want %v", text, err, want)
			}
		})
	}
}

func FuzzBytes(f *testing.F) {
	f.Add("512MiB")
	f.Add("-1B")
	f.Fuzz(func(t *testing.T, text string) {
		amount, err := fleet.ParseBytes(text)
		if err != nil {
			return
		}
		again, err := fleet.ParseBytes(amount.String())
		if err != nil || again != amount {
			t.Errorf("%q is %d, but %v is %d, %v", text, amount, amount, again, err)
		}
	})
}

func TestMode(t *testing.T) {
	for text, want := range map[string]fs.FileMode{
		"644": 0o644, "0644": 0o644, "0600": 0o600, "4755": fs.ModeSetuid | 0o755, "2755": fs.ModeSetgid | 0o755,
		"1777": fs.ModeSticky | 0o777,
	} {
		t.Run(text, func(t *testing.T) {
			mode, err := fleet.ParseMode(text)
			if err != nil || mode != want {
				t.Errorf("%q: got %v, %v", text, mode, err)
			}
			again, err := fleet.ParseMode(fleet.FormatMode(mode))
			if err != nil || again != mode {
				t.Errorf("%v is written as %q", mode, fleet.FormatMode(mode))
			}
		})
	}
	for _, text := range []string{"", "8", "88", "999", "0o644", "00644", "-644", "rw-r--r--"} {
		if mode, err := fleet.ParseMode(text); err == nil {
			t.Errorf("%q is read as %v", text, mode)
		}
	}
}

func TestComplete(t *testing.T) {
	f := &fleet.Fleet{Name: "tide-office", Machines: []*fleet.Machine{{
		Name: "almanac", Image: "bookworm",
		Disks: []*fleet.Disk{{Name: "pages", Size: fleet.GiB, FileSystem: "ext4"}, {Name: "root", Size: 5 * fleet.GiB}},
		Ports: []*fleet.Port{{Name: "ssh", Machine: 22}, {Name: "site", Host: 8080, Machine: 80}},
	}}}
	f.Complete()
	m := f.Machine("almanac")
	if m == nil || f.Network(fleet.DefaultNetworkName) == nil || f.Image("bookworm") != nil {
		t.Fatal("the fleet does not find its nouns by name")
	}
	if m.Disks[0].Name != "root" || m.Disks[0].Size != 5*fleet.GiB || m.Disks[1].Label != "pages" {
		t.Errorf("disks: %+v %+v", m.Disks[0], m.Disks[1])
	}
	if m.HostName != "almanac" || !m.IsDefault("host_name") || m.Resources.Memory != fleet.GiB ||
		!m.Resources.IsDefault("memory") {
		t.Errorf("defaults: %+v", m)
	}
	if len(m.NICs) != 1 || m.NICs[0].Network != "inner" || !m.NICs[0].DHCP() {
		t.Errorf("NICs: %+v", m.NICs)
	}
	ssh, site := m.Ports[0], m.Ports[1]
	if !ssh.Auto || ssh.Host < 20000 || site.Auto || site.Host != 8080 || site.Listen.String() != "127.0.0.1" {
		t.Errorf("ports: %+v %+v", ssh, site)
	}
	if serial := m.Disks[1].Serial; len(serial) > 20 || serial[:6] != "pages-" {
		t.Errorf("serial %q", serial)
	}
	before := *m.Ports[0]
	f.Complete()
	if m.Ports[0].Host != before.Host || len(f.Networks) != 1 || len(m.NICs) != 1 || len(m.Disks) != 2 {
		t.Error("completing twice changes the fleet")
	}
}

// TestDerivedValues pins what is derived from names. A change would move the addresses
// and ports of every machine that was ever rendered.
func TestDerivedValues(t *testing.T) {
	f := &fleet.Fleet{Name: "tide-office",
		Machines: []*fleet.Machine{{Name: "almanac", Ports: []*fleet.Port{{Name: "ssh", Machine: 22}}}}}
	f.Complete()
	m := f.Machines[0]
	got := []any{m.Disks[0].Serial, m.NICs[0].HardwareAddress, m.Ports[0].Host}
	want := []any{"root-e539483b", "02:45:cb:35:58:34", 25126}
	for i := range got {
		if got[i] != want[i] {
			t.Errorf("derived value %d is %v, want %v", i, got[i], want[i])
		}
	}
}

func TestBroadcast(t *testing.T) {
	for subnet, want := range map[string]string{
		"10.44.7.0/24": "10.44.7.255", "10.0.0.0/8": "10.255.255.255", "10.44.7.16/29": "10.44.7.23",
		"10.1.1.1/32": "10.1.1.1",
	} {
		t.Run(subnet, func(t *testing.T) {
			if got := fleet.Broadcast(netip.MustParsePrefix(subnet)); got.String() != want {
				t.Errorf("%s: got %v, want %s", subnet, got, want)
			}
		})
	}
}

func TestOrigins(t *testing.T) {
	var m fleet.Machine
	if m.PlaceOf("image").IsValid() || m.OriginOf("image").Via != "" {
		t.Error("a machine made by a program has origins")
	}
	self := fleet.Place{File: "a", Line: 1, Column: 2}
	image := fleet.Place{File: "a", Line: 3, Column: 4}
	m.SetOrigin(fleet.Itself, fleet.Origin{Place: self})
	m.SetOrigin("image", fleet.Origin{Place: self})
	m.SetOrigin("image", fleet.Origin{Place: image, Via: "kit shore"})
	if m.PlaceOf("image") != image || m.PlaceOf("about") != self || m.OriginOf("image").Via != "kit shore" {
		t.Errorf("origins: %+v", m.Origins)
	}
	if self.String() != "a:1:2" || (fleet.Place{File: "a"}).String() != "a" {
		t.Errorf("places are written as %s", self)
	}
}
