package qemu_test

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
)

// gone lists options, devices and forms of values that newer versions of QEMU removed,
// or that older ones announced to remove: docs/about/removed-features.rst and
// docs/about/deprecated.rst of version 10.0. What stands in a script has to work for
// years.
var gone = []struct{ what, pattern, since string }{
	{"ACPI switched off by an option of its own", `(?m)^\s*-no-acpi\b`, "9.0"},
	{"HPET switched off by an option of its own", `(?m)^\s*-no-hpet\b`, "9.0"},
	{"sound cards", `-soundhw\b`, "7.1"},
	{"written configuration", `-writeconfig\b`, "7.1"},
	{"FIPS mode", `-enable-fips\b`, "7.1"},
	{"watchdogs by model", `-watchdog\s`, "8.0"},
	{"old USB devices", `-usbdevice\s+(audio|bt|ccid|host|net|serial)`, "6.0"},
	{"displays by options of their own", `-(sdl|curses|no-quit|alt-grab|ctrl-grab|portrait)\b`, "9.0"},
	{"single steps by an option of its own", `-singlestep\b`, "9.0"},
	{"another root by an option of its own", `-chroot\b`, "9.0"},
	{"another user by an option of its own", `-runas\b`, "10.0, announced"},
	{"threads taken down late by an option of its own", `-async-teardown\b`, "10.0"},
	{"the realtime switch", `-realtime\b`, "6.0"},
	{"time drift", `-tdf\b|-no-kvm`, "6.0"},
	{"old networks", `-net\s`, "removed in parts"},
	{"memory by path", `-mem-path\b`, "announced for boards with NUMA"},
	{"Intel's accelerator", `accel=\S*\bhax\b`, "8.2"},
	{"names of IDE and SCSI disks", `-device\s+(ide-drive|scsi-disk)\b`, "6.0"},
	{"the proxy of shared folders", `-(fsdev|virtfs)\s+proxy\b`, "9.2"},
	{"a serial of a drive", `-drive\s\S*serial=`, "5.1"},
	{"SPICE's password in the clear", `-spice\s\S*\bpassword=`, "8.0"},
	{"VNC's access lists", `-vnc\s\S*\b(acl|tls|x509)\b`, "6.0"},
	{"switches without a value", `,(server|nowait|nodelay|no-reboot|disable-ticketing|share|readonly|telnet|ipv4|ipv6|lossy)(,|\s|")`, "6.0, announced"},
	{"processors in counts of zero", `-smp\s\S*=0\b`, "9.0"},
	{"processors of a board's old models", `-cpu\s+(Icelake-Client|\S+-noTSX-IBRS)`, "7.1"},
	{"old boards", `-machine\s+"?pc-(i440fx|q35)-(1|2)\.`, "9.1 and 10.0"},
	{"names for serial devices of the host", `-chardev\s+(tty|parport)\b`, "6.0, announced"},
	{"plain files as configuration of the block layer", `file\.driver=(host_device|host_cdrom).*filename=\S+\.iso`, "3.0"},
}

// TestOptionsStay holds scripts to what newer versions of QEMU no longer take.
func TestOptionsStay(t *testing.T) {
	changes := []func(*fleet.Fleet, *fleet.Machine){
		func(*fleet.Fleet, *fleet.Machine) {}, everything,
		func(f *fleet.Fleet, _ *fleet.Machine) { f.Images[0].Arch = "arm64" },
		func(f *fleet.Fleet, m *fleet.Machine) {
			m.Console = fleet.Console{Kind: fleet.Graphical, Protocol: fleet.SPICE}
			m.Shares = []*fleet.Share{{Name: "charts", Host: "charts", Machine: "/srv/charts"}}
		},
	}
	var scripts []string
	for _, change := range changes {
		text, err := os.ReadFile(script(t, change))
		if err != nil {
			t.Fatal(err)
		}
		_, options, found := strings.Cut(string(text), "\nset -- \\\n")
		if !found {
			t.Fatalf("no options in\n%s", text)
		}
		scripts = append(scripts, options)
	}
	for _, g := range gone {
		t.Run(g.what, func(t *testing.T) {
			pattern := regexp.MustCompile(g.pattern)
			for _, options := range scripts {
				if at := pattern.FindString(options); at != "" {
					t.Errorf("%q is gone since version %s", at, g.since)
				}
			}
		})
	}
}
