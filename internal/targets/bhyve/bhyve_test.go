package bhyve_test

import (
	"bufio"
	"bytes"
	"context"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/bhyve"
	"stavren.example/stavren/render"
)

func TestDemo(t *testing.T) {
	files := golden.Render(t, bhyve.Target, golden.Demo(t), "store", "chartroom")
	golden.Compare(t, files)
	if mode := files["chartroom/bhyve.conf"].Mode; mode != 0o600 {
		t.Errorf("a configuration with a password has mode %v", mode)
	}
}

// read reads a configuration as bhyve_config(5) describes it: a line is a
// comment, empty, or KEY=VALUE, and %% stands for a percent sign.
func read(t *testing.T, data []byte) map[string]string {
	t.Helper()
	values := map[string]string{}
	for lines := bufio.NewScanner(bytes.NewReader(data)); lines.Scan(); {
		line := lines.Text()
		if line == "" || line[0] == '#' {
			continue
		}
		key, value, ok := strings.Cut(line, "=")
		if !ok || values[key] != "" || strings.Contains(strings.ReplaceAll(value, "%%", ""), "%") {
			t.Fatalf("line %q", line)
		}
		values[key] = strings.ReplaceAll(value, "%%", "%")
	}
	return values
}

func everything(t *testing.T) *fleet.Fleet {
	f := golden.Demo(t)
	m := f.Machine("store")
	m.About = "it's $(touch /tmp/stavren-was-here)\nname=other"
	m.Disks = append(m.Disks, &fleet.Disk{Name: "a", Bus: fleet.SCSI, Size: fleet.GiB, Format: fleet.Full},
		&fleet.Disk{Name: "b", Bus: fleet.SATA, Size: fleet.GiB},
		&fleet.Disk{Name: "c", Bus: fleet.NVMe, Size: fleet.GiB, Start: "images/it's $(c) 100%.qcow2"})
	m.Media = []*fleet.Medium{{Name: "install", File: "images/100%(x) a=b.iso"}}
	m.Console = fleet.Console{Kind: fleet.Graphical, Password: "screen"}
	m.Clock = fleet.Local
	f.Complete()
	return f
}

func TestConfiguration(t *testing.T) {
	data := golden.Render(t, bhyve.Target, everything(t), "store")["store/bhyve.conf"].Data
	got := read(t, data)
	for key, want := range map[string]string{
		"name": "store", "cpus": "2", "memory.size": "4096M", "rtc.use_localtime": "true",
		"pci.0.0.0.device": "hostbridge", "pci.0.31.0.device": "lpc",
		"pci.0.1.0.path": "root.img", "pci.0.3.0.device": "virtio-blk", "pci.0.4.0.device": "ahci",
		"pci.0.5.0.device":      "nvme",
		"pci.0.6.0.port.1.path": "../images/100%(x) a=b.iso", "pci.0.11.0.password": "high screen",
		"pci.0.12.0.slot.1.device": "tablet",
	} {
		t.Run(key, func(t *testing.T) {
			if got[key] != want {
				t.Errorf("%s is %q, not %q, in\n%s", key, got[key], want, data)
			}
		})
	}
	taps := map[string]bool{}
	for key, value := range got {
		if strings.HasSuffix(key, ".backend") {
			if !regexp.MustCompile(`^tap[0-9a-f]{1,12}$`).MatchString(value) || taps[value] {
				t.Errorf("backend %q", value)
			}
			taps[value] = true
		}
	}
}

func TestShellReadsScript(t *testing.T) {
	for name, file := range golden.Render(t, bhyve.Target, everything(t)) {
		if strings.HasSuffix(name, ".sh") {
			checkShell(t, name, string(file.Data))
		}
	}
}

func checkShell(t *testing.T, name, script string) {
	t.Helper()
	shellcheck, err := exec.LookPath("shellcheck")
	if err != nil {
		t.Skip("shellcheck is not installed here")
	}
	path := filepath.Join(t.TempDir(), "run.sh")
	if err := os.WriteFile(path, []byte(script), 0o755); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command(shellcheck, "--exclude=SC2016,SC1091", path).CombinedOutput(); err != nil {
		t.Errorf("%s: %v\n%s", name, err, out)
	}
}

// withStandIns writes run.sh into a folder, with stand-ins for what only FreeBSD has, and
// the files that it looks for.
func withStandIns(t *testing.T, folder, script string) {
	t.Helper()
	script = strings.ReplaceAll(script, "/usr/local/share/uefi-firmware", folder)
	stand := `log=` + folder + `/log
bhyve() { echo "bhyve $*" >>$log; return 1; }
bhyvectl() { echo "bhyvectl $*" >>$log; }
ifconfig() { echo "ifconfig $*" >>$log; [ $# -gt 1 ]; }
route() { echo "  interface: em0"; }
pfctl() {
	case $* in
	'-s nat') printf 'nat-anchor "stavren/*" all\nrdr-anchor "stavren/*" all\n' ;;
	'-s rules') echo 'anchor "stavren/*" all' ;;
	*) echo "pfctl $*" >>$log ;;
	esac
}
awk() { case $* in *resolv.conf) echo 192.0.2.53 ;; *) command awk "$@" ;; esac; }
kldload() { :; }
sysctl() { echo "sysctl $*" >>$log; }
stat() { wc -c <"$3" | tr -d ' '; }
lockf() { shift 5; "$@"; }
`
	for name, data := range map[string]string{"run.sh": strings.Replace(script, "set -eu\n", "set -eu\n"+stand, 1),
		"BHYVE_UEFI_CODE.fd": "", "BHYVE_UEFI_VARS.fd": "", "base.img": strings.Repeat("x", 1<<20)} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(data), 0o755); err != nil {
			t.Fatal(err)
		}
	}
}

// TestScriptMakesDisks runs the script twice, with stand-ins for what only FreeBSD
// has, and checks the disks and the commands.
func TestScriptMakesDisks(t *testing.T) {
	if _, err := exec.LookPath("qemu-img"); err != nil {
		t.Skip("qemu-img is not installed here")
	}
	if os.Getuid() != 0 {
		t.Skip("the script must be started by root")
	}
	f := golden.Demo(t)
	m := f.Machine("store")
	m.Disks[0].Size, m.Disks[1].Size, m.Disks[1].Format = 3*fleet.MiB, 2*fleet.MiB, fleet.Full
	folder := filepath.Join(t.TempDir(), "store")
	if err := os.Mkdir(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	withStandIns(t, folder, string(golden.Render(t, bhyve.Target, f, "store")["store/run.sh"].Data))
	for range 2 {
		c := exec.Command("sh", filepath.Join(folder, "run.sh"))
		c.Env = append(os.Environ(), "STAVREN_IMAGE="+filepath.Join(folder, "base.img"))
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		for name, size := range map[string]int64{"root.img": 3 << 20, "readings.img": 2 << 20} {
			t.Run(name, func(t *testing.T) {
				if info, err := os.Stat(filepath.Join(folder, name)); err != nil || info.Size() != size {
					t.Errorf("%s: %v, %v", name, info, err)
				}
			})
		}
		if err := os.WriteFile(filepath.Join(folder, "readings.img"), []byte(strings.Repeat("r", 2<<20)),
			0o644); err != nil {
			t.Fatal(err)
		}
	}
	if data, _ := os.ReadFile(filepath.Join(folder, "readings.img")); !bytes.HasPrefix(data, []byte("rr")) {
		t.Error("the second start made the data disk anew")
	}
	log, _ := os.ReadFile(filepath.Join(folder, "log"))
	for _, want := range []string{"bhyve -k bhyve.conf store", "inet 10.44.7.1/24 up",
		"sysctl -q net.inet.ip.forwarding=1", "bhyvectl --destroy --vm=store",
		"pfctl -q -D out=em0 -D dns=192.0.2.53 -a stavren/store -f ports.pf.conf", "pfctl -q -a stavren/store -F all"} {
		if !strings.Contains(string(log), want) {
			t.Errorf("no %q in\n%s", want, log)
		}
	}
}

func TestNeeds(t *testing.T) {
	for rule, change := range map[string]func(f *fleet.Fleet, m *fleet.Machine){
		"image-without-file":     func(f *fleet.Fleet, _ *fleet.Machine) { f.Images[0].File = "" },
		"architecture-of-target": func(f *fleet.Fleet, _ *fleet.Machine) { f.Images[0].Arch = "arm64" },
		"port-without-address":   func(f *fleet.Fleet, _ *fleet.Machine) { f.Networks[0].Mode = fleet.Bridged },
		"no-tpm":                 func(_ *fleet.Fleet, m *fleet.Machine) { m.Firmware.TPM = true },
	} {
		t.Run(rule, func(t *testing.T) {
			f := golden.Demo(t)
			m := f.Machine("almanac")
			if found := bhyve.Target.Needs(f, m); len(found) != 0 {
				t.Fatalf("findings: %+v", found)
			}
			change(f, m)
			if found := bhyve.Target.Needs(f, m); len(found) != 1 || found[0].Rule != rule || found[0].Remedy == "" {
				t.Errorf("%s: findings %+v", rule, found)
			}
		})
	}
}

// gate is a fleet of one machine with a port, a firewall and an address.
func gate(change func(f *fleet.Fleet, m *fleet.Machine)) map[string]string {
	m := &fleet.Machine{Name: "almanac", Image: "i", FirstBoot: &fleet.FirstBoot{},
		NICs:  []*fleet.NIC{{Name: "quay", Network: "quay", Address: netip.MustParseAddr("10.44.7.20")}},
		Ports: []*fleet.Port{{Name: "site", Host: 8443, Machine: 443, Listen: netip.IPv4Unspecified()}}}
	f := &fleet.Fleet{Name: "tide-office", Machines: []*fleet.Machine{m},
		Images:   []*fleet.Image{{Name: "i", OS: "debian-12", File: "i.qcow2"}},
		Networks: []*fleet.Network{{Name: "quay", Mode: fleet.NAT, Subnet: netip.MustParsePrefix("10.44.7.0/24")}},
		Firewalls: []*fleet.Firewall{{Name: "office", Allow: []*fleet.Allowance{{
			Port: fleet.PortRange{Protocol: fleet.TCP, First: 443, Last: 443},
			From: []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24")}}}}}}
	change(f, m)
	f.Complete()
	files, err := render.All(context.Background(), bhyve.Target, f, render.Options{})
	texts := map[string]string{}
	for _, file := range files {
		texts[file.Name] = string(file.Data)
	}
	if err != nil {
		texts["error"] = err.Error()
	}
	return texts
}

// TestFamilies looks at a port on an address of another family than the machine's.
func TestFamilies(t *testing.T) {
	f := golden.Demo(t)
	m := f.Machine("almanac")
	m.Ports[0].Listen = netip.MustParseAddr("2001:db8::7")
	found := bhyve.Target.Needs(f, m)
	if len(found) != 1 || found[0].Rule != "port-without-address" || !strings.Contains(found[0].Message, "2001:db8::7") {
		t.Errorf("findings %+v", found)
	}
}

// TestPacketFilter looks at the rules of the host's packet filter.
func TestPacketFilter(t *testing.T) {
	const tap = "tap[0-9a-f]{6}0"
	for _, c := range []struct {
		what   string
		change func(f *fleet.Fleet, m *fleet.Machine)
		want   []string
		not    string
	}{
		{"a machine without ports has a way out", func(_ *fleet.Fleet, m *fleet.Machine) { m.Ports = nil },
			[]string{`nat on \$out inet from 10\.44\.7\.0/24 to ! 10\.44\.7\.0/24 -> \(\$out\)`,
				`rdr pass on quay-[0-9a-f]{6} inet proto \{ tcp, udp \} from 10\.44\.7\.0/24 to 10\.44\.7\.1 port 53 -> \$dns`},
			"port 443"},
		{"a port on every address is on the way to the world", func(*fleet.Fleet, *fleet.Machine) {},
			[]string{`rdr pass on \$out inet proto tcp from any to \(\$out\) port 8443 -> 10\.44\.7\.20 port 443`}, "to any port"},
		{"a port on one address", func(_ *fleet.Fleet, m *fleet.Machine) { m.Ports[0].Listen = netip.MustParseAddr("192.0.2.7") },
			[]string{`rdr pass inet proto tcp from any to 192\.0\.2\.7 port 8443 -> 10\.44\.7\.20 port 443`}, "to any port"},
		{"a port on the loopback is the machine's own", func(_ *fleet.Fleet, m *fleet.Machine) {
			m.Ports[0].Listen = netip.MustParseAddr("127.0.0.1")
		}, []string{"nat on"}, "8443"},
		{"servers that were chosen", func(f *fleet.Fleet, _ *fleet.Machine) {
			f.Networks[0].DNS = []netip.Addr{netip.MustParseAddr("192.0.2.53")}
		}, []string{"nat on"}, "port 53"},
		{"a firewall", func(_ *fleet.Fleet, m *fleet.Machine) { m.Firewall = []string{"office"} },
			[]string{"block out on " + tap + " all\npass in on " + tap + " all\n",
				"pass out on " + tap + ` inet proto tcp from 198\.51\.100\.0/24 to any port 443\n`,
				"pass out on " + tap + ` inet proto tcp from 10\.44\.7\.1/32 to any port 443\n`}, "from any to any port"},
		{"a firewall that is switched off", func(f *fleet.Fleet, m *fleet.Machine) {
			m.Firewall = []string{"office"}
			f.Platforms = []*fleet.Platform{{Name: "bhyve", Settings: []fleet.Pair{{Key: "firewall", Value: "none"}}}}
		}, []string{"nat on"}, "block"},
	} {
		t.Run(c.what, func(t *testing.T) {
			rules := gate(c.change)["almanac/ports.pf.conf"]
			for _, want := range c.want {
				if !regexp.MustCompile(want).MatchString(rules) {
					t.Errorf("no %s in\n%s", want, rules)
				}
			}
			if strings.Contains(rules, c.not) {
				t.Errorf("%s in\n%s", c.not, rules)
			}
		})
	}
}

// TestHost looks at what run.sh asks of the host for each mode of network.
func TestHost(t *testing.T) {
	for _, c := range []struct {
		what   string
		change func(f *fleet.Fleet, m *fleet.Machine)
		want   []string
	}{
		{"nat", func(*fleet.Fleet, *fleet.Machine) {}, []string{"yes inet 10.44.7.1/24\n", "ip.forwarding=1"}},
		{"host-only", func(f *fleet.Fleet, m *fleet.Machine) { f.Networks[0].Mode, m.Ports = fleet.HostOnly, nil },
			[]string{"yes inet 10.44.7.1/24\n"}},
		{"isolated", func(f *fleet.Fleet, m *fleet.Machine) { f.Networks[0].Mode, m.Ports = fleet.Isolated, nil },
			[]string{"yes\n"}},
		{"bridged without a bridge", func(f *fleet.Fleet, m *fleet.Machine) { f.Networks[0].Mode, m.Ports = fleet.Bridged, nil },
			[]string{"bridge0 no\n"}},
		{"console", func(*fleet.Fleet, *fleet.Machine) {}, []string{"-o lpc.com1.path=stdio", "cu -l /dev/nmdm-almanac-B"}},
		{"a port on the loopback", func(_ *fleet.Fleet, m *fleet.Machine) {
			m.Ports[0].Listen = netip.MustParseAddr("127.0.0.1")
		}, []string{"site on 10.44.7.20, port 443/tcp"}},
	} {
		t.Run(c.what, func(t *testing.T) {
			script := gate(c.change)["almanac/run.sh"]
			for _, want := range c.want {
				if !strings.Contains(script, want) {
					t.Errorf("no %q in\n%s", want, script)
				}
			}
		})
	}
}

// TestDevices looks at what the configuration has beside disks and interfaces.
func TestDevices(t *testing.T) {
	texts := gate(func(_ *fleet.Fleet, m *fleet.Machine) {
		m.Shares = []*fleet.Share{{Name: "charts", Host: "charts", Machine: "/srv/charts", ReadOnly: true}}
		m.Media = []*fleet.Medium{{Name: "install", File: "i.iso", BootFirst: true}}
		m.Autostart, m.AutostartDelay = true, 30*time.Second
	})
	config := read(t, []byte(texts["almanac/bhyve.conf"]))
	for key, want := range map[string]string{
		"lpc.com1.path": "/dev/nmdm-almanac-A", "lpc.bootrom": "/usr/local/share/uefi-firmware/BHYVE_UEFI_CODE.fd",
		"lpc.bootvars": "variables.fd", "lpc.fwcfg": "qemu", "pci.0.2.0.port.1.bootindex": "1", "pci.0.1.0.bootindex": "2",
		"pci.0.4.0.device": "virtio-9p", "pci.0.4.0.sharename": "charts", "pci.0.4.0.ro": "true",
	} {
		t.Run(key, func(t *testing.T) {
			if config[key] != want {
				t.Errorf("%s is %q, want %q in\n%s", key, config[key], want, texts["almanac/bhyve.conf"])
			}
		})
	}
	if !strings.Contains(texts["almanac/seed.iso"], "trans=virtio,version=9p2000.L") {
		t.Error("the machine doesn't mount the share by 9P")
	}
	service := texts["tide-office.rc"]
	if !strings.Contains(service, `(sleep 30 && sh "$folder/fleet.sh" start almanac) &`) {
		t.Errorf("the service is\n%s", service)
	}
	checkShell(t, "tide-office.rc", service)
}

func TestSteps(t *testing.T) {
	f := golden.Demo(t)
	steps := bhyve.Target.Steps(&render.Job{Fleet: f}, f.Machines[:1])
	if len(steps) != 3 || steps[0].Command != "sh fleet.sh start almanac" {
		t.Errorf("steps: %+v", steps)
	}
}
