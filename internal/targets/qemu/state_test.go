package qemu_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/qemu"
)

// call runs a script with a word and returns what it wrote and its exit code.
func call(t *testing.T, path, word string, environment ...string) (string, int) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, "sh", path, word)
	c.Env = append(append(os.Environ(), "STAVREN_WAIT=2", "STAVREN_ACCEL=tcg"), environment...)
	out, err := c.CombinedOutput()
	if _, exited := err.(*exec.ExitError); err != nil && !exited {
		t.Fatal(err)
	}
	return string(out), c.ProcessState.ExitCode()
}

// TestStaleState looks at a machine that is off although a crash left its pid file, its
// control files and its lock behind, and while an editor has one of its files open.
func TestStaleState(t *testing.T) {
	path := script(t, func(*fleet.Fleet, *fleet.Machine) {})
	folder := filepath.Dir(path)
	editor := exec.Command("sleep", "60")
	editor.Args = []string{"qemu-system-x86_64", "60"} // a program whose arguments name QEMU
	editor.Path = mustFind(t, "sleep")
	if err := editor.Start(); err != nil {
		t.Fatal(err)
	}
	defer editor.Process.Kill()
	for _, pid := range []int{os.Getpid(), editor.Process.Pid} {
		if err := os.WriteFile(filepath.Join(folder, "almanac.pid"), []byte(strconv.Itoa(pid)), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(folder, "run.lock"), nil, 0o600); err != nil {
			t.Fatal(err)
		}
		if out, code := call(t, path, "status"); out != "almanac is off\n" || code != 3 {
			t.Errorf("status: exit code %d, %q", code, out)
		}
		if out, code := call(t, path, "stop"); out != "almanac is off\n" || code != 0 {
			t.Errorf("stop: exit code %d, %q", code, out)
		}
	}
}

func mustFind(t *testing.T, program string) string {
	t.Helper()
	path, err := exec.LookPath(program)
	if err != nil {
		t.Skipf("%s is not installed here", program)
	}
	return path
}

// TestStopWaitsForNobody stops a machine that holds its lock and reads nothing from its
// control file.
func TestStopWaitsForNobody(t *testing.T) {
	path := script(t, func(*fleet.Fleet, *fleet.Machine) {})
	folder := filepath.Dir(path)
	holder := exec.Command(mustFind(t, "flock"), filepath.Join(folder, "run.lock"), "sleep", "60")
	if err := holder.Start(); err != nil {
		t.Fatal(err)
	}
	defer holder.Process.Kill()
	if out, err := exec.Command("mkfifo", filepath.Join(folder, "control.in")).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	for range 100 {
		if _, err := os.Stat(filepath.Join(folder, "run.lock")); err == nil {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	if out, code := call(t, path, "status"); out != "almanac is being started\n" || code != 0 {
		t.Errorf("status: exit code %d, %q", code, out)
	}
	out, code := call(t, path, "stop")
	if code != 1 || !strings.Contains(out, "almanac: still runs after 2 seconds") {
		t.Errorf("stop: exit code %d, %q", code, out)
	}
}

// TestStartsAtOnce starts a machine several times at once. One start wins, and the disks
// are whole.
func TestStartsAtOnce(t *testing.T) {
	image := base(t, "qcow2", "64M")
	path := script(t, func(_ *fleet.Fleet, m *fleet.Machine) {
		m.Disks = []*fleet.Disk{{Name: "data", Size: fleet.GiB}}
		m.Ports = nil
	})
	folder := filepath.Dir(path)
	var group sync.WaitGroup
	refused := make(chan string, 8)
	for range 8 {
		group.Go(func() {
			c := exec.Command("sh", path)
			c.Env = append(os.Environ(), "STAVREN_ACCEL=tcg", "STAVREN_IMAGE="+image)
			if out, err := c.CombinedOutput(); err != nil {
				refused <- string(out)
			}
		})
	}
	for len(refused) < 7 {
		time.Sleep(20 * time.Millisecond)
	}
	for range 7 {
		if out := <-refused; !strings.Contains(out, "already") {
			t.Errorf("a start ended with %q", out)
		}
	}
	for name, size := range map[string]string{"root.qcow2": "10 GiB", "data.qcow2": "1 GiB"} {
		file := filepath.Join(folder, name)
		info, err := exec.Command("qemu-img", "info", "-U", file).Output()
		if err != nil || !strings.Contains(string(info), "virtual size: "+size) {
			t.Errorf("%s: %v\n%s", name, err, info)
		}
		if mode, err := os.Stat(file); err != nil || mode.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v, %v", name, mode, err)
		}
	}
	pid, err := os.ReadFile(filepath.Join(folder, "almanac.pid"))
	if err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("kill", strings.TrimSpace(string(pid))).CombinedOutput(); err != nil {
		t.Errorf("%v %s", err, out)
	}
	group.Wait()
}

// TestChangedSizes starts a machine whose definition has other sizes than its disks, by
// a link to its script.
func TestChangedSizes(t *testing.T) {
	image := base(t, "qcow2", "64M")
	path := script(t, func(_ *fleet.Fleet, m *fleet.Machine) {
		m.Disks = []*fleet.Disk{{Name: "data", Size: fleet.GiB}, {Name: "log", Size: fleet.GiB}}
	})
	folder := filepath.Dir(path)
	for name, size := range map[string]string{"data": "2G", "log": "512M"} {
		file := filepath.Join(folder, name+".qcow2")
		if out, err := exec.Command("qemu-img", "create", "-q", "-f", "qcow2", file, size).CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	link := filepath.Join(t.TempDir(), "start-almanac")
	if err := os.Symlink(path, link+"-2"); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(filepath.Base(link+"-2"), link); err != nil {
		t.Fatal(err)
	}
	// An accelerator that isn't there ends the start after its disks.
	out, _ := call(t, link, "start", "STAVREN_ACCEL=none", "STAVREN_IMAGE="+image)
	for _, want := range []string{
		"almanac: data.qcow2 has 2147483648 bytes, more than the 1073741824 of the definition; a disk can't be made smaller",
		"almanac: log.qcow2 has 536870912 bytes, less than the 1073741824 of the definition; to enlarge it: qemu-img resize " +
			folder + "/log.qcow2 1073741824",
	} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in\n%s", want, out)
		}
	}
	if strings.Contains(out, "root.qcow2 has") {
		t.Errorf("the root disk has its size:\n%s", out)
	}
	if _, err := os.Stat(filepath.Join(folder, "root.qcow2")); err != nil {
		t.Errorf("the script did not work in its own folder: %v", err)
	}
}

// TestHelpersEnd lets starts fail after their helpers were started. None is left, so
// the next start works; machines with shares of one name run side by side.
func TestHelpersEnd(t *testing.T) {
	mustFind(t, "swtpm")
	image := base(t, "qcow2", "64M")
	path := script(t, func(_ *fleet.Fleet, m *fleet.Machine) { m.Firmware = fleet.Firmware{Kind: fleet.UEFI, TPM: true} })
	for range 2 {
		out, code := call(t, path, "start", "STAVREN_ACCEL=none", "STAVREN_IMAGE="+image)
		if code == 0 || strings.Contains(out, "swtpm did not start") {
			t.Errorf("exit code %d, %q", code, out)
		}
	}
	listed, err := exec.Command("ps", "-eo", "pid,args").Output()
	if err != nil {
		t.Fatal(err)
	}
	for line := range bytes.Lines(listed) {
		if bytes.Contains(line, []byte("swtpm")) {
			pid := strings.Fields(string(line))[0]
			if at, err := os.Readlink(fmt.Sprintf("/proc/%s/cwd", pid)); err == nil && at == filepath.Dir(path) {
				t.Errorf("left behind: %s", line)
			}
		}
	}
	if out, ran := start(t, path, "STAVREN_IMAGE="+image); !ran {
		t.Errorf("the next start fails: %s", out)
	}
}

// TestFleet starts, lists, stops and removes two machines by fleet.sh, as printed. A disk
// that is kept stays.
func TestFleet(t *testing.T) {
	image := base(t, "qcow2", "64M")
	f := &fleet.Fleet{Name: "tide-office", Images: []*fleet.Image{{Name: "bookworm", OS: "debian-12", File: image}}}
	for _, name := range []string{"almanac", "store", "elsewhere"} {
		f.Machines = append(f.Machines, &fleet.Machine{Name: name, Image: "bookworm", FirstBoot: &fleet.FirstBoot{},
			Ports: []*fleet.Port{{Name: "ssh", Machine: 22}}, Users: []*fleet.User{{Name: "mira", Keys: []string{"ops"}}},
			Disks: []*fleet.Disk{{Name: "data", Size: fleet.GiB}, {Name: "kept", Size: fleet.GiB, Keep: true}}})
	}
	f.Complete()
	folder := t.TempDir()
	for name, file := range golden.Render(t, qemu.Target, f, "almanac", "store") {
		path := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, file.Data, file.Mode); err != nil {
			t.Fatal(err)
		}
	}
	script := filepath.Join(folder, "fleet.sh")
	run := func(want string, wantCode int, words ...string) {
		t.Helper()
		c := exec.Command("sh", append([]string{script}, words...)...)
		c.Env = append(os.Environ(), "STAVREN_ACCEL=tcg", "STAVREN_WAIT=1", "STAVREN_IMAGE="+image)
		out, _ := c.CombinedOutput() // its code is looked at
		if code := c.ProcessState.ExitCode(); code != wantCode || !strings.Contains(string(out), want) {
			t.Errorf("fleet.sh %v: exit code %d, %q\nwant %d, %q", words, code, out, wantCode, want)
		}
	}
	t.Cleanup(func() {
		for _, name := range []string{"almanac", "store"} {
			pid, err := os.ReadFile(filepath.Join(folder, name, name+".pid"))
			if err == nil {
				_ = exec.Command("kill", strings.TrimSpace(string(pid))).Run()
			}
		}
	})
	port := strconv.Itoa(f.Machines[0].Ports[0].Host)
	run("almanac is off\nstore is off\n", 3, "status")
	run("almanac: ssh -p "+port+" mira@127.0.0.1\n", 0, "start")
	run("almanac runs as process", 0, "start")
	run("store runs as process", 0, "status", "store")
	run("there is no machine reef", 1, "start", "reef")
	run("knows start, stop, status and remove, not 'begin'", 1, "begin")
	run("still runs after 1 seconds", 1, "stop") // nothing in the machine hears the button
	run("could not remove: store almanac", 1, "remove", "--yes")
	for _, name := range []string{"almanac", "store"} {
		pid, err := os.ReadFile(filepath.Join(folder, name, name+".pid"))
		if err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command("kill", strings.TrimSpace(string(pid))).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	for range 100 {
		if _, code := call(t, filepath.Join(folder, "store/run.sh"), "status"); code == 3 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	run("asks before it removes anything; answer with --yes", 1, "remove", "store")
	run("kept: "+folder+"/store/kept.qcow2", 0, "remove", "--yes", "store")
	left, err := filepath.Glob(filepath.Join(folder, "store", "*"))
	if err != nil || len(left) != 4 { // run.sh, seed.iso, the unit, and the disk
		t.Errorf("left: %v, %v", left, err)
	}
}
