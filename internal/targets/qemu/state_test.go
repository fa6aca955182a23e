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
