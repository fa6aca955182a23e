package qemu_test

import (
	"bytes"
	"context"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/qemu"
	"stavren.example/stavren/render"
)

func TestDemo(t *testing.T) {
	files := golden.Render(t, qemu.Target, golden.Demo(t), golden.Machines...)
	golden.Compare(t, files)
	for name, mode := range map[string]os.FileMode{"almanac/run.sh": 0o755, "chartroom/console.password": 0o600,
		"store/seed.iso": 0o600} {
		t.Run(name, func(t *testing.T) {
			if files[name].Mode != mode {
				t.Errorf("%s has mode %v", name, files[name].Mode)
			}
		})
	}
}

// script renders run.sh of one machine into a folder of its own and returns its path.
func script(t *testing.T, change func(f *fleet.Fleet, m *fleet.Machine)) string {
	t.Helper()
	m := &fleet.Machine{Name: "almanac", Image: "bookworm", FirstBoot: &fleet.FirstBoot{},
		Ports: []*fleet.Port{{Name: "ssh", Machine: 22}}}
	f := &fleet.Fleet{Name: "tide-office", Machines: []*fleet.Machine{m},
		Images: []*fleet.Image{{Name: "bookworm", OS: "debian-12", File: "images/base.qcow2"}}}
	change(f, m)
	f.Complete()
	folder := filepath.Join(t.TempDir(), "almanac")
	if err := os.Mkdir(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	for name, file := range golden.Render(t, qemu.Target, f) {
		if err := os.WriteFile(filepath.Join(folder, filepath.Base(name)), file.Data, file.Mode); err != nil {
			t.Fatal(err)
		}
	}
	return filepath.Join(folder, "run.sh")
}

// hostile changes a machine in every field that could break a script.
func hostile(f *fleet.Fleet, m *fleet.Machine) {
	m.About = "it's $(touch /tmp/stavren-was-here) `id`\n\"; rm -rf /\r\n#\x1b[0m"
	f.Images[0].File = "images/it's, a $(name) \"of\" \\ tides;=.qcow2"
	m.Resources = fleet.Resources{CPUs: 3, Memory: 1500 * fleet.MB}
	m.Disks = []*fleet.Disk{{Name: "0data", Size: fleet.GiB}, {Name: strings.Repeat("x", 63), Size: fleet.GiB}}
	m.Ports = []*fleet.Port{
		{Name: "ssh", Machine: 22, Listen: netip.MustParseAddr("0.0.0.0")},
		{Name: "buoys", Machine: 4000, Protocol: fleet.UDP},
	}
}

// everything is a machine that uses all that a host can provide.
func everything(f *fleet.Fleet, m *fleet.Machine) {
	f.Secrets = []*fleet.Secret{{Name: "screen", Env: "SCREEN"}}
	f.Networks = []*fleet.Network{
		{Name: "quay", Subnet: netip.MustParsePrefix("10.44.7.0/24")},
		{Name: "reef", Mode: fleet.Isolated, Subnet: netip.MustParsePrefix("10.44.9.0/24")},
		{Name: "archive", Mode: fleet.HostOnly, Subnet: netip.MustParsePrefix("10.44.8.0/24")},
	}
	m.NICs = []*fleet.NIC{
		{Name: "reef", Address: netip.MustParseAddr("10.44.9.5")}, {Name: "quay", Model: fleet.E1000},
		{Name: "archive", Address: netip.MustParseAddr("10.44.8.5")},
	}
	m.Disks = []*fleet.Disk{
		{Name: "root", Format: fleet.Full, Size: 200 * fleet.MiB},
		{Name: "a", Bus: fleet.SCSI, Size: fleet.GiB}, {Name: "b", Bus: fleet.SATA, Size: fleet.GiB},
		{Name: "c", Bus: fleet.NVMe, Size: fleet.GiB},
	}
	m.Firmware = fleet.Firmware{Kind: fleet.UEFI, SecureBoot: true, TPM: true}
	m.Console = fleet.Console{Kind: fleet.Graphical, Resolution: "1920x1080", Password: "screen"}
	m.Keyboard = "dk"
	m.FirstBoot.GuestTools = true
	m.Media = []*fleet.Medium{{Name: "install", File: "install, 1.iso", BootFirst: true, Eject: true},
		{Name: "tools", File: "tools.iso"}}
	m.Resources.Priority = fleet.High
	m.Autostart, m.AutostartDelay = true, 30*time.Second
}

func TestShellReadsScript(t *testing.T) {
	shellcheck, err := exec.LookPath("shellcheck")
	if err != nil {
		t.Skip("shellcheck is not installed here")
	}
	// SC2016 warns that $(name) in single quotes doesn't expand, which is intended.
	for _, change := range []func(*fleet.Fleet, *fleet.Machine){
		func(*fleet.Fleet, *fleet.Machine) {}, hostile,
		func(f *fleet.Fleet, _ *fleet.Machine) { f.Images[0].Arch = "arm64" }, everything,
	} {
		path := script(t, change)
		if out, err := exec.Command("sh", "-n", path).CombinedOutput(); err != nil {
			t.Errorf("sh -n: %v\n%s", err, out)
		}
		if out, err := exec.Command(shellcheck, "--exclude=SC2016", path).CombinedOutput(); err != nil {
			t.Errorf("shellcheck: %v\n%s", err, out)
		}
	}
}

// base makes an image for the script to boot and returns its path.
func base(t *testing.T, format, size string) string {
	t.Helper()
	for _, program := range []string{"qemu-system-x86_64", "qemu-img"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("%s is not installed here", program)
		}
	}
	path := filepath.Join(t.TempDir(), "it's, a $(base):image")
	if out, err := exec.Command("qemu-img", "create", "-q", "-f", format, path, size).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return path
}

// start runs a script for a moment and returns what it wrote. QEMU takes its
// options or refuses them at once; then it is stopped by its pid.
func start(t *testing.T, path string, environment ...string) (output string, ran bool) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, "sh", path)
	c.Env = append(append(os.Environ(), "STAVREN_ACCEL=tcg"), environment...)
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- c.Wait() }()
	folder := filepath.Dir(path)
	for range 300 {
		select {
		case <-ended:
			return out.String(), false
		case <-time.After(50 * time.Millisecond):
		}
		if _, err := os.Stat(filepath.Join(folder, "qmp.sock")); err == nil {
			ran = true
			break
		}
	}
	select {
	case <-ended:
		return out.String(), false
	case <-time.After(500 * time.Millisecond):
	}
	if err := c.Process.Signal(syscall.SIGTERM); err != nil {
		t.Error(err)
	}
	<-ended
	return out.String(), ran
}

func TestQEMUTakesOptions(t *testing.T) {
	image := base(t, "qcow2", "64M")
	for name, change := range map[string]func(*fleet.Fleet, *fleet.Machine){
		"plain": func(*fleet.Fleet, *fleet.Machine) {}, "hostile": hostile,
		"small subnet": func(f *fleet.Fleet, m *fleet.Machine) {
			f.Networks = []*fleet.Network{{Name: "quay", Subnet: netip.MustParsePrefix("10.44.7.8/29"),
				Search: []string{"skerry.example"}}}
			m.NICs = []*fleet.NIC{{Name: "quay", Address: netip.MustParseAddr("10.44.7.10")},
				{Name: "again", Network: "quay"}}
		},
		"everything": everything,
		"plain UEFI": func(f *fleet.Fleet, m *fleet.Machine) { m.Firmware.Kind = fleet.UEFI },
		"another system's screen": func(f *fleet.Fleet, m *fleet.Machine) {
			f.Images[0].OS = "freebsd-14"
			m.Console = fleet.Console{Kind: fleet.Graphical}
		},
		"SPICE": func(f *fleet.Fleet, m *fleet.Machine) {
			f.Secrets = []*fleet.Secret{{Name: "screen", Env: "SCREEN"}}
			m.Console = fleet.Console{Kind: fleet.Graphical, Protocol: fleet.SPICE, Password: "screen"}
		},
		"bare Windows": func(f *fleet.Fleet, m *fleet.Machine) {
			f.Images[0].OS = "windows-server-2022"
			m.Disks = []*fleet.Disk{{Name: "root", Bus: fleet.SATA}}
			m.Media = []*fleet.Medium{{Name: "tools", File: "tools.iso"}}
		},
		"start of a disk": func(_ *fleet.Fleet, m *fleet.Machine) {
			m.Disks = []*fleet.Disk{{Name: "readings", Size: fleet.GiB, Start: image}}
		},
	} {
		t.Run(name, func(t *testing.T) {
			path := script(t, change)
			for _, disc := range []string{"install, 1.iso", "tools.iso"} {
				if err := os.WriteFile(filepath.Join(filepath.Dir(filepath.Dir(path)), disc), make([]byte, 1<<20),
					0o644); err != nil {
					t.Fatal(err)
				}
			}
			out, ran := start(t, path, "STAVREN_IMAGE="+image)
			if !ran {
				t.Fatalf("QEMU refused: %s", out)
			}
			if strings.Contains(out, "warning") {
				t.Errorf("QEMU warns: %s", out)
			}
			info, err := exec.Command("qemu-img", "info", filepath.Join(filepath.Dir(path), "root.qcow2")).Output()
			if err != nil || !strings.Contains(string(info), "virtual size: ") || name != "everything" &&
				!strings.Contains(string(info), image) {
				t.Errorf("root disk: %v\n%s", err, info)
			}
		})
	}
}

func TestScriptRefuses(t *testing.T) {
	plain := func(*fleet.Fleet, *fleet.Machine) {}
	large := base(t, "raw", "20G")
	for _, c := range []struct {
		name, image, want string
	}{
		{"no image", "/nowhere/debian.qcow2", "almanac: there is no base image /nowhere/debian.qcow2"},
		{"image larger than the disk", large, "almanac: the base image is larger than the 10GiB of the root disk"},
	} {
		t.Run(c.name, func(t *testing.T) {
			path := script(t, plain)
			out, ran := start(t, path, "STAVREN_IMAGE="+c.image)
			if ran || !strings.Contains(out, c.want) {
				t.Errorf("%s: ran %v, wrote %q", c.name, ran, out)
			}
			if _, err := os.Stat(filepath.Join(filepath.Dir(path), "root.qcow2")); err == nil {
				t.Errorf("%s: a root disk was left behind", c.name)
			}
		})
	}
}

func TestSystemdReadsUnit(t *testing.T) {
	analyze, err := exec.LookPath("systemd-analyze")
	if err != nil {
		t.Skip("systemd-analyze is not installed here")
	}
	folder := filepath.Dir(script(t, hostile))
	out, err := exec.Command(analyze, "verify", filepath.Join(folder, "almanac.service")).CombinedOutput()
	if err != nil || strings.Contains(string(out), "almanac.service:") {
		t.Errorf("%v\n%s", err, out)
	}
}

// TestScriptReportsState checks what the script reports for a running machine, and
// that it doesn't start it twice.
func TestScriptReportsState(t *testing.T) {
	image := base(t, "qcow2", "64M")
	path := script(t, func(*fleet.Fleet, *fleet.Machine) {})
	call := func(word string) (string, int) {
		c := exec.Command("sh", path, word)
		c.Env = append(os.Environ(), "STAVREN_WAIT=1", "STAVREN_ACCEL=tcg", "STAVREN_IMAGE="+image)
		out, err := c.CombinedOutput()
		if _, exited := err.(*exec.ExitError); err != nil && !exited {
			t.Fatal(err)
		}
		return string(out), c.ProcessState.ExitCode()
	}
	expect := func(word, want string, wantCode int) {
		t.Helper()
		if out, code := call(word); !strings.Contains(out, want) || code != wantCode {
			t.Errorf("%s: exit code %d, %q", word, code, out)
		}
	}
	expect("status", "almanac is off", 3)
	expect("stop", "almanac is off", 0)
	expect("begin", "almanac: knows start, stop, status and remove, not begin", 1)
	run := exec.Command("sh", path)
	run.Env = append(os.Environ(), "STAVREN_ACCEL=tcg", "STAVREN_IMAGE="+image)
	if err := run.Start(); err != nil {
		t.Fatal(err)
	}
	pid := strconv.Itoa(run.Process.Pid)
	pidFile := filepath.Join(filepath.Dir(path), "almanac.pid")
	for range 200 {
		if _, err := os.Stat(pidFile); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	expect("status", "almanac runs as process "+pid, 0)
	expect("start", "almanac: runs as process "+pid+" already; run.sh stop ends it", 1)
	expect("stop", "still runs after 1 seconds; look at its console, or end it with: kill "+pid, 1)
	if err := run.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	run.Wait()
	expect("status", "almanac is off", 3)
}

func TestNeeds(t *testing.T) {
	for rule, change := range map[string]func(f *fleet.Fleet, m *fleet.Machine){
		"image-without-file": func(f *fleet.Fleet, _ *fleet.Machine) { f.Images[0].File = "" },
		"port-without-nat":   func(f *fleet.Fleet, _ *fleet.Machine) { f.Networks[0].Mode = fleet.Isolated },
		"too-many-devices": func(_ *fleet.Fleet, m *fleet.Machine) {
			for i := range 7 {
				m.Disks = append(m.Disks, &fleet.Disk{Name: string(rune('a' + i)), Bus: fleet.SATA})
			}
		},
		"vnc-port-too-low": func(_ *fleet.Fleet, m *fleet.Machine) {
			m.Console = fleet.Console{Kind: fleet.Graphical, Port: 590, Protocol: fleet.VNC}
		},
	} {
		t.Run(rule, func(t *testing.T) {
			f := golden.Demo(t)
			m := f.Machine("almanac")
			f.Machines = []*fleet.Machine{m}
			f.Complete()
			if found := qemu.Target.Needs(f, m); len(found) != 0 {
				t.Fatalf("findings: %+v", found)
			}
			change(f, m)
			found := qemu.Target.Needs(f, m)
			if len(found) != 1 || found[0].Rule != rule || found[0].Remedy == "" {
				t.Errorf("%s: findings %+v", rule, found)
			}
		})
	}
}

// TestSegments checks that machines of one network meet on one segment, and those
// of another do not.
func TestSegments(t *testing.T) {
	find := regexp.MustCompile(`mcast=[0-9.:]+`)
	of := func(data []byte) string { return strings.Join(find.FindAllString(string(data), -1), " ") }
	files := golden.Render(t, qemu.Target, golden.Demo(t), "gauge-1", "gauge-2", "store")
	one, two, store := of(files["gauge-1/run.sh"].Data), of(files["gauge-2/run.sh"].Data),
		of(files["store/run.sh"].Data)
	if one == "" || one != two || store == "" || store == one {
		t.Errorf("segments %q, %q and %q", one, two, store)
	}
}

func TestFilePath(t *testing.T) {
	for _, c := range []struct{ given, want string }{
		{"../images/base.qcow2", "../../images/base.qcow2"},
		{"/srv/base.qcow2", "/srv/base.qcow2"},
		{"base:1.qcow2", "../base:1.qcow2"},
	} {
		t.Run(c.given, func(t *testing.T) {
			files, err := render.All(context.Background(), qemu.Target, golden.Demo(t),
				render.Options{Machines: []string{"almanac"}, FilePath: func(string, string) string { return c.given }})
			if err != nil {
				t.Fatal(err)
			}
			if script := string(files[0].Data); !strings.Contains(script, "|| image="+c.want+"\n") {
				t.Errorf("%s: the script does not name %s", c.given, c.want)
			}
		})
	}
}

// TestDevicesFitTheSystem checks that a machine gets devices that its system has drivers
// for, and its firmware can start from.
func TestDevicesFitTheSystem(t *testing.T) {
	for _, c := range []struct {
		name, system, arch string
		drivers            []string
		want               []string
	}{
		{"Linux", "debian-12", "amd64", nil, []string{"-device virtio-blk-pci,drive=seed", "ide-cd,bus=sata.0,drive=disc0",
			"-device virtio-net-pci,"}},
		{"Windows", "windows-server-2022", "amd64", nil, []string{"-device ide-cd,bus=sata.0,drive=seed",
			"ide-cd,bus=sata.1,drive=disc0", "-device e1000,"}},
		{"Windows with drivers", "windows-server-2022", "amd64", []string{"virtio"}, []string{
			"-device ide-cd,bus=sata.0,drive=seed", "-device virtio-net-pci,"}},
		{"arm64", "debian-12", "arm64", nil, []string{"scsi-cd,bus=scsi.0,drive=disc0", "gic-version=max"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			data, err := os.ReadFile(script(t, func(f *fleet.Fleet, m *fleet.Machine) {
				f.Images[0].OS, f.Images[0].Arch, f.Images[0].Drivers = c.system, c.arch, c.drivers
				m.Media = []*fleet.Medium{{Name: "tools", File: "tools.iso"}}
			}))
			if err != nil {
				t.Fatal(err)
			}
			for _, want := range c.want {
				if !strings.Contains(strings.ReplaceAll(string(data), "'", ""), want) {
					t.Errorf("no %q in\n%s", want, data)
				}
			}
		})
	}
}
