//go:build boot

package boot

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// stopByScript stops a machine with its script, and waits until it has shut down.
func (m *machine) stopByScript(t *testing.T) {
	t.Helper()
	c := exec.Command("sh", filepath.Join(m.folder, "out", m.name, "run.sh"), "stop")
	c.Env = append(os.Environ(), "STAVREN_WAIT=180")
	if out, err := c.CombinedOutput(); err != nil || !strings.Contains(string(out), m.name+" is off") {
		t.Errorf("run.sh stop: %v\n%s", err, out)
	}
	if err := <-m.ended; err != nil {
		t.Errorf("run.sh ended with %v", err)
	}
}

// machine is a virtual machine under test.
type machine struct {
	t      *testing.T
	folder string
	name   string
	// environment is added to that of the script, which has the accelerator.
	environment []string
	run         *exec.Cmd
	ended       chan error
}

func (m *machine) runScript() *exec.Cmd {
	c := exec.Command("sh", filepath.Join(m.folder, "out", m.name, "run.sh"))
	// A /dev/kvm that opens may still not work, so the test emulates.
	c.Env = append(append(os.Environ(), "STAVREN_ACCEL=tcg"), m.environment...)
	return c
}

func (m *machine) start() {
	m.run = m.runScript()
	m.run.Stdout, m.run.Stderr = os.Stderr, os.Stderr
	if err := m.run.Start(); err != nil {
		m.t.Fatal(err)
	}
	m.ended = make(chan error, 1)
	go func(run *exec.Cmd, ended chan error) { ended <- run.Wait() }(m.run, m.ended)
	m.t.Cleanup(func() { m.run.Process.Kill() })
}

// stop shuts the machine down from inside and waits until run.sh has ended.
func (m *machine) stop() {
	m.ssh("sudo systemctl poweroff")
	select {
	case err := <-m.ended:
		if err != nil {
			m.t.Fatalf("run.sh ended with %v", err)
		}
	case <-time.After(3 * time.Minute):
		m.t.Fatal("the machine did not shut down")
	}
}

func (m *machine) ssh(run string) (string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, "ssh", "-F", filepath.Join(m.folder, "ssh_config"), "-o", "BatchMode=yes", "-o",
		"ConnectTimeout=10", m.name, run)
	out, err := c.Output()
	return strings.TrimRight(string(out), "\n"), err
}

func (m *machine) waitForSSH() {
	m.t.Helper()
	started := time.Now()
	for time.Since(started) < 12*time.Minute {
		select {
		case err := <-m.ended:
			m.t.Fatalf("run.sh ended before SSH answered: %v\n%s", err, m.console())
		default:
		}
		if out, err := m.ssh("echo in"); err == nil && out == "in" {
			m.t.Logf("SSH answered after %v", time.Since(started).Round(time.Second))
			return
		}
		time.Sleep(3 * time.Second)
	}
	m.t.Fatalf("SSH never answered; the console's end:\n%s", m.console())
}

func (m *machine) console() string {
	data, _ := os.ReadFile(filepath.Join(m.folder, "out", m.name, "console.log"))
	return string(data[max(0, len(data)-4000):])
}

func (m *machine) look(t *testing.T, what, run, want string) {
	t.Helper()
	got, err := m.ssh(run)
	// Dots that show a command's progress aren't part of its answer.
	got = strings.TrimLeft(got, ".\n")
	if got != want {
		t.Errorf("%s: %s\n got %q (%v)\nwant %q", what, run, got, err, want)
	}
}

// buildImage builds the Debian image of image.sh once and keeps it outside the
// repository under a name made from its recipe.
func buildImage(t *testing.T) string {
	t.Helper()
	recipe, err := os.ReadFile("image.sh")
	if err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256(recipe)
	cache, err := os.UserCacheDir()
	if err != nil {
		t.Fatal(err)
	}
	image := filepath.Join(cache, "stavren-boot", hex.EncodeToString(sum[:8])+".qcow2")
	if _, err := os.Stat(image); err != nil {
		started := time.Now()
		command(t, ".", "sh", "image.sh", image)
		t.Logf("built the image in %v", time.Since(started).Round(time.Second))
	}
	return image
}

// serveRepository serves a package repository with one small package on this
// host's loopback, and returns the port.
func serveRepository(t *testing.T) int {
	t.Helper()
	folder := t.TempDir()
	tree := filepath.Join(folder, "tide-tools")
	for name, text := range map[string]string{
		"DEBIAN/control": "Package: tide-tools\nVersion: 1.0\nArchitecture: all\n" +
			"Maintainer: Mira Holm <mira@skerry.example>\nDescription: tables for the boot test\n",
		"usr/share/tide-tools/table": "high water\n",
	} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(tree, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		write(t, filepath.Join(tree, name), text)
	}
	site := t.TempDir()
	command(t, folder, "dpkg-deb", "--root-owner-group", "--build", tree, filepath.Join(site, "tide-tools.deb"))
	data, err := os.ReadFile(filepath.Join(site, "tide-tools.deb"))
	if err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256(data)
	control, err := os.ReadFile(filepath.Join(tree, "DEBIAN/control"))
	if err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(site, "Packages"), fmt.Sprintf("%sFilename: ./tide-tools.deb\nSize: %d\nSHA256: %x\n\n",
		control, len(data), sum))
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: http.FileServer(http.Dir(site))}
	go server.Serve(listener)
	t.Cleanup(func() { server.Close() })
	return listener.Addr().(*net.TCPAddr).Port
}

func write(t *testing.T, path, text string) {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

func command(t *testing.T, folder, name string, args ...string) string {
	t.Helper()
	c := exec.Command(name, args...)
	c.Dir = folder
	var stderr strings.Builder
	c.Stderr = &stderr
	out, err := c.Output()
	if err != nil {
		t.Fatalf("%s %s: %v\n%s%s", name, strings.Join(args, " "), err, out, stderr.String())
	}
	return string(out)
}
