package qemu_test

import (
	"bytes"
	"context"
	"flag"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"stavren.example/stavren/examples"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/source"
	"stavren.example/stavren/internal/target/qemu"
	"stavren.example/stavren/render"
)

var update = flag.Bool("update", false, "rewrite the golden files")

func demo(t *testing.T) *fleet.Fleet {
	t.Helper()
	f, err := source.Load(examples.TideOffice(), "tide-office.stavren.yaml", source.Options{})
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func renderAll(t *testing.T, f *fleet.Fleet, options render.Options) map[string]render.File {
	t.Helper()
	files, err := render.All(context.Background(), qemu.Target, f, options)
	if err != nil {
		t.Fatal(err)
	}
	byName := map[string]render.File{}
	for _, file := range files {
		byName[file.Name] = file
	}
	return byName
}

func TestDemo(t *testing.T) {
	files := renderAll(t, demo(t), render.Options{Machines: []string{"almanac"}})
	for _, name := range []string{"almanac/run.sh", "almanac/almanac.service"} {
		path := filepath.Join("testdata", strings.ReplaceAll(name, "/", "."))
		got := files[name].Data
		if *update {
			if err := os.WriteFile(path, got, 0o644); err != nil {
				t.Fatal(err)
			}
		}
		want, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(got, want) {
			t.Errorf("%s differs; go test -update rewrites it. got:\n%s", path, got)
		}
	}
	if files["almanac/run.sh"].Mode != 0o755 {
		t.Errorf("run.sh has mode %v", files["almanac/run.sh"].Mode)
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
	for name, file := range renderAll(t, f, render.Options{}) {
		if err := os.WriteFile(filepath.Join(folder, filepath.Base(name)), file.Data, file.Mode); err != nil {
			t.Fatal(err)
		}
	}
	return filepath.Join(folder, "run.sh")
}

// hostile changes a machine in every field that a script could trip over.
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

func TestShellReadsScript(t *testing.T) {
	shellcheck, err := exec.LookPath("shellcheck")
	if err != nil {
		t.Skip("shellcheck is not installed here")
	}
	// SC2016 asks whether $(name) in single quotes was meant to expand: it was not.
	for _, change := range []func(*fleet.Fleet, *fleet.Machine){
		func(*fleet.Fleet, *fleet.Machine) {}, hostile,
		func(f *fleet.Fleet, _ *fleet.Machine) { f.Images[0].Arch = "arm64" },
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
	time.Sleep(500 * time.Millisecond)
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
			f.Networks = []*fleet.Network{{Name: "quay", Subnet: netip.MustParsePrefix("10.44.7.8/29"), Search: []string{"skerry.example"}}}
			m.NICs = []*fleet.NIC{{Name: "quay", Address: netip.MustParseAddr("10.44.7.10")}, {Name: "again", Network: "quay"}}
		},
	} {
		t.Run(name, func(t *testing.T) {
			path := script(t, change)
			out, ran := start(t, path, "STAVREN_IMAGE="+image)
			if !ran {
				t.Fatalf("QEMU refused: %s", out)
			}
			if strings.Contains(out, "warning") {
				t.Errorf("QEMU warns: %s", out)
			}
			info, err := exec.Command("qemu-img", "info", filepath.Join(filepath.Dir(path), "root.qcow2")).Output()
			if err != nil || !strings.Contains(string(info), "virtual size: 10 GiB") || !strings.Contains(string(info), image) {
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
		path := script(t, plain)
		out, ran := start(t, path, "STAVREN_IMAGE="+c.image)
		if ran || !strings.Contains(out, c.want) {
			t.Errorf("%s: ran %v, wrote %q", c.name, ran, out)
		}
		if _, err := os.Stat(filepath.Join(filepath.Dir(path), "root.qcow2")); err == nil {
			t.Errorf("%s: a root disk was left behind", c.name)
		}
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

func TestNeedsFile(t *testing.T) {
	f := demo(t)
	f.Images[0].File = ""
	found := qemu.Target.Needs(f, f.Machines[0])
	if len(found) != 1 || found[0].Rule != "image-without-file" || !found[0].Place.IsValid() {
		t.Errorf("findings: %+v", found)
	}
}

func TestImagePath(t *testing.T) {
	for _, c := range []struct{ given, want string }{
		{"../images/base.qcow2", "../../images/base.qcow2"},
		{"/srv/base.qcow2", "/srv/base.qcow2"},
		{"base:1.qcow2", "../base:1.qcow2"},
	} {
		files := renderAll(t, demo(t), render.Options{Machines: []string{"almanac"}, ImagePath: func(*fleet.Image) string { return c.given }})
		if script := string(files["almanac/run.sh"].Data); !strings.Contains(script, "|| image="+c.want+"\n") {
			t.Errorf("%s: the script does not name %s", c.given, c.want)
		}
	}
}
