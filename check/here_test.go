package check_test

import (
	"io/fs"
	"net/netip"
	"strings"
	"testing"

	"stavren.example/stavren/check"
	"stavren.example/stavren/fleet"
)

// TestHere compares one fleet with hosts that differ in one thing each.
func TestHere(t *testing.T) {
	text := strings.Replace(withBase("  a: {image: bookworm, ports: {web: {host: 8080, machine: 80}}, console: "+
		"{kind: graphical, port: 5901}}\n"),
		"file: images/debian-12.qcow2}", "file: images/debian-12.qcow2, sha256: \""+strings.Repeat("0f", 32)+"\"}", 1)
	text = strings.Replace(text, "quay: {mode: nat, subnet: 10.44.7.0/24}",
		"quay: {mode: nat, subnet: 10.44.7.0/24}\n  shore: {mode: bridged, bridge: br0}", 1)
	text = strings.Replace(text, "kits: [base], ports", "kits: [base], nics: {quay: {}, shore: {}}, ports", 1)
	f := loaded(t, text)
	f.Key("ops").File = "keys/ops.pub"
	sound := func() *fleet.Host {
		return &fleet.Host{
			CPUs: 4, MemoryFree: 8 * fleet.GiB, Bridges: []string{"br0"},
			Subnets: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")},
			Tools:   map[string]bool{"qemu-img": true}, Room: 100 * fleet.GiB, RoomAt: "/srv",
			Images: map[string]fleet.HostImage{"bookworm": {Path: "images/debian-12.qcow2",
				VirtualSize: 2 * fleet.GiB, SHA256: strings.Repeat("0f", 32)}},
			PrivateKeys: map[string]fs.FileMode{"keys/ops": 0o600},
		}
	}
	for _, c := range []struct {
		change func(h *fleet.Host)
		want   string
	}{
		{func(*fleet.Host) {}, ""},
		{func(h *fleet.Host) { h.Listening = []fleet.Socket{{Protocol: fleet.TCP, Port: 8080}} }, "host-port-in-use"},
		{func(h *fleet.Host) { h.Listening = []fleet.Socket{{Protocol: fleet.UDP, Port: 8080}} }, ""},
		{func(h *fleet.Host) { h.Listening = []fleet.Socket{{Protocol: fleet.TCP, Port: 5901}} }, "host-port-in-use"},
		{func(h *fleet.Host) { h.MemoryFree = fleet.MiB }, "host-memory-short"},
		{func(h *fleet.Host) { h.MemoryFree = 0 }, ""}, // unknown
		{func(h *fleet.Host) { h.Room = 10*fleet.GiB - 1 }, "host-disk-short"},
		{func(h *fleet.Host) { h.Images["bookworm"] = fleet.HostImage{Missing: "there is no such file"} },
			"host-image-missing"},
		{func(h *fleet.Host) { h.Images["bookworm"] = fleet.HostImage{SHA256: "00"} }, "host-image-checksum-wrong"},
		{func(h *fleet.Host) { f.Images[0].SHA256 = "" }, "image-without-checksum"},
		{func(h *fleet.Host) { f.Images[0].SHA256 = strings.Repeat("0f", 32) }, ""},
		{func(h *fleet.Host) { h.Images["bookworm"] = fleet.HostImage{VirtualSize: 11 * fleet.GiB} },
			"image-larger-than-disk"},
		{func(h *fleet.Host) { h.PrivateKeys["keys/ops"] = 0o644 }, "private-key-mode"},
		{func(h *fleet.Host) { h.PrivateKeys["keys/ops"] = 0o400 }, ""},
		{func(h *fleet.Host) { h.Bridges = nil }, "host-bridge-missing"},
		{func(h *fleet.Host) { h.Subnets = []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")} },
			"subnet-clashes-with-host"},
		{func(h *fleet.Host) { h.Virtualisation = "there is no /dev/kvm" }, "host-emulates"},
		{func(h *fleet.Host) { h.Tools["qemu-img"] = false }, "host-tool-missing"},
	} {
		t.Run(c.want, func(t *testing.T) {
			h := sound()
			c.change(h)
			found := run(t, check.Options{Host: h}, f)
			if got := names(found); got != c.want {
				t.Errorf("got %v, want %q", found, c.want)
			}
			for _, one := range found {
				if !one.Place.IsValid() || one.Remedy == "" {
					t.Errorf("incomplete: %+v", one)
				}
			}
		})
	}
}
