package bhyve_test

import (
	"bufio"
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

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
		"pci.0.6.0.port.1.path": "../images/100%(x) a=b.iso", "pci.0.10.0.password": "high screen",
		"pci.0.11.0.slot.1.device": "tablet",
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
	shellcheck, err := exec.LookPath("shellcheck")
	if err != nil {
		t.Skip("shellcheck is not installed here")
	}
	for name, file := range golden.Render(t, bhyve.Target, everything(t)) {
		if !strings.HasSuffix(name, ".sh") {
			continue
		}
		path := filepath.Join(t.TempDir(), "run.sh")
		if err := os.WriteFile(path, file.Data, 0o755); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command(shellcheck, "--exclude=SC2016", path).CombinedOutput(); err != nil {
			t.Errorf("%s: %v\n%s", name, err, out)
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
	script := string(golden.Render(t, bhyve.Target, f, "store")["store/run.sh"].Data)
	script = strings.ReplaceAll(script, "/usr/local/share/uefi-firmware", folder)
	stand := `log=` + folder + `/log
bhyve() { echo "bhyve $*" >>$log; return 1; }
bhyvectl() { echo "bhyvectl $*" >>$log; }
ifconfig() { echo "ifconfig $*" >>$log; [ $# -gt 1 ]; }
kldload() { :; }
sysctl() { echo "sysctl $*" >>$log; }
stat() { wc -c <"$3" | tr -d ' '; }
lockf() { shift 5; "$@"; }
`
	for name, data := range map[string]string{"run.sh": strings.Replace(script, "set -eu\n", "set -eu\n"+stand, 1),
		"BHYVE_UEFI.fd": "", "BHYVE_UEFI_VARS.fd": "", "base.img": strings.Repeat("x", 1<<20)} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(data), 0o755); err != nil {
			t.Fatal(err)
		}
	}
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
		"sysctl -q net.inet.ip.forwarding=1", "bhyvectl --destroy --vm=store"} {
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

func TestSteps(t *testing.T) {
	f := golden.Demo(t)
	steps := bhyve.Target.Steps(&render.Job{Fleet: f}, f.Machines[:1])
	if len(steps) != 4 || !strings.Contains(steps[0].Command, "-a stavren/almanac -f almanac/ports.pf.conf") ||
		steps[1].Command != "sh fleet.sh start almanac" {
		t.Errorf("steps: %+v", steps)
	}
}
