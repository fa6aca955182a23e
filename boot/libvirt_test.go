//go:build boot

package boot

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// libvirtDefinition is a fleet for libvirt: two machines on a host-only network, one with
// an address of its own and one by DHCP, and one on a nat network with a forwarded port.
const libvirtDefinition = `stavren: 1
fleet: boot-by-libvirt
images:
  bookworm: {os: debian-12, file: images/debian.qcow2}
networks:
  archive: {mode: host-only, subnet: 10.45.8.0/24}
  quay: {mode: nat, subnet: 10.45.7.0/24, search: [skerry.example]}
firewalls:
  archive: {allow: [{port: 22/tcp, from: 10.45.8.0/24}]}
keys:
  ops: {file: keys/ops.pub}
kits:
  shore:
    image: bookworm
    resources: {cpus: 1, memory: 640MiB}
    disks: {root: {size: 3GiB}}
    users: {mira: {admin: without-password, keys: [ops]}}
machines:
  store:
    kits: [shore]
    firewall: [archive]
    nics: {archive: {address: 10.45.8.20}}
  gauge:
    kits: [shore]
    nics: {archive: {}}
  almanac:
    kits: [shore]
    disks:
      pages: {size: 1GiB, filesystem: ext4, mount: /srv/almanac, keep: true}
    nics: {quay: {address: 10.45.7.20}}
    ports: {ssh: {host: auto, machine: 22}}
    users:
      eyd: {locked: true, password_hash: "$6$salt$IxDD3jeSOb5eB1CX5LBsqZFVkJdido3OUILO5Ifz5iwMuTS4XMS130MTSuDDl3aCI6WouIL9AjRbLCelDCy.g."}
    first_boot:
      files: {/etc/tide.conf: {text: "high water\n"}}
      scripts:
        tables: {text: "echo ran >>/var/lib/once\n"}
        mark: {when: every-boot, text: "echo started >>/var/lib/starts\n"}
`

// byLibvirt is a fleet in an output folder, run by a real libvirtd.
type byLibvirt struct {
	t      *testing.T
	folder string
	// steps are the commands that render printed.
	steps []string
}

// step runs a printed command, with more words, and returns what it wrote and its code.
func (l *byLibvirt) step(at int, words ...string) (string, int) {
	l.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, "sh", "-c", strings.Join(append([]string{l.steps[at]}, words...), " "))
	c.Dir = filepath.Join(l.folder, "out")
	c.Env = append(os.Environ(), "STAVREN_ACCEL=tcg", "STAVREN_WAIT=240")
	out, _ := c.CombinedOutput() // its code is looked at
	return string(out), c.ProcessState.ExitCode()
}

func (l *byLibvirt) ssh(run string, where ...string) string {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	words := append([]string{"-i", filepath.Join(l.folder, "keys/ops"), "-o", "BatchMode=yes", "-o", "ConnectTimeout=10",
		"-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR"}, where...)
	out, _ := exec.CommandContext(ctx, "ssh", append(words, run)...).Output() // no answer is an answer
	return strings.TrimRight(string(out), "\n")
}

// wait waits until a machine answers and its first boot is over.
func (l *byLibvirt) wait(where ...string) {
	l.t.Helper()
	for started := time.Now(); time.Since(started) < 12*time.Minute; time.Sleep(3 * time.Second) {
		if strings.Contains(l.ssh("cloud-init status --wait", where...), "status: done") {
			l.t.Logf("%v is done after %v", where, time.Since(started).Round(time.Second))
			return
		}
	}
	l.t.Fatalf("%v never answered", where)
}

func (l *byLibvirt) look(what, run, want string, where ...string) {
	l.t.Helper()
	if got := l.ssh(run, where...); got != want {
		l.t.Errorf("%s: %s\n got %q\nwant %q", what, run, got, want)
	}
}

// virsh returns what a command prints, or "" if it fails.
func virsh(words ...string) string {
	out, _ := exec.Command("virsh", words...).Output() // what isn't there makes it fail
	return strings.TrimSpace(string(out))
}

// TestLibvirt starts a fleet through a real libvirtd by the steps that render prints, as
// printed: start, look, stop, start again, remove.
func TestLibvirt(t *testing.T) {
	startLibvirt(t)
	l := &byLibvirt{t: t, folder: t.TempDir()}
	// libvirt's machines run under an account of their own.
	write(t, filepath.Join(l.folder, "f.stavren.yaml"), libvirtDefinition)
	for _, name := range []string{"images", "keys"} {
		if err := os.Mkdir(filepath.Join(l.folder, name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink(buildImage(t), filepath.Join(l.folder, "images/debian.qcow2")); err != nil {
		t.Fatal(err)
	}
	command(t, l.folder, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "boot test", "-f", "keys/ops")
	stavren := filepath.Join(l.folder, "stavren")
	command(t, ".", "go", "build", "-o", stavren, "stavren.example/stavren/cmd/stavren")
	command(t, l.folder, stavren, "check", "--strict", "--for", "libvirt", "f.stavren.yaml")
	render := exec.Command(stavren, "render", "libvirt", "f.stavren.yaml", "-o", "out")
	render.Dir = l.folder
	out, err := render.CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	_, next, _ := strings.Cut(string(out), "next in out:\n")
	for line := range strings.Lines(next) {
		if step, ok := strings.CutPrefix(line, "      "); ok {
			l.steps = append(l.steps, strings.TrimSpace(step))
		}
	}
	if len(l.steps) != 3 {
		t.Fatalf("render prints %d steps:\n%s", len(l.steps), out)
	}
	t.Cleanup(func() {
		for _, name := range []string{"store", "gauge", "almanac"} {
			virsh("destroy", "boot-by-libvirt-"+name)
		}
		l.step(2, "--yes")
		virsh("vol-delete", "--pool", "default", "boot-by-libvirt-almanac-pages.qcow2")
	})
	l.start(t)
}

func (l *byLibvirt) start(t *testing.T) {
	out, code := l.step(0)
	_, port, found := strings.Cut(out, "almanac: ssh -p ")
	if code != 0 || !found || !strings.Contains(out, "store: ssh mira@10.45.8.20\n") {
		t.Fatalf("starting: exit code %d\n%s", code, out)
	}
	port, _, _ = strings.Cut(port, " ")
	almanac, store := []string{"-p", port, "mira@127.0.0.1"}, []string{"mira@10.45.8.20"}
	l.wait(almanac...)
	l.look("file", "cat /etc/tide.conf", "high water", almanac...)
	l.look("script that runs once", "cat /var/lib/once", "ran", almanac...)
	l.look("script of every boot", "cat /var/lib/starts", "started", almanac...)
	l.look("data disk", "findmnt -rno FSTYPE,TARGET --source LABEL=pages", "ext4 /srv/almanac", almanac...)
	l.look("address", "ip -4 -br addr show eth0 | awk '{print $3}'", "10.45.7.20/24", almanac...)
	l.look("a locked account stays locked", "sudo passwd --status eyd | cut -d' ' -f2; sudo grep -c '^eyd:!' /etc/shadow",
		"L\n1", almanac...)
	l.ssh("echo kept | sudo tee /srv/almanac/kept; sync", almanac...)
	l.wait(store...)
	gauge := []string{"mira@" + leaseOf(t, "boot-by-libvirt-archive", "gauge")}
	l.wait(gauge...)
	l.look("the one by DHCP finds the other by name", "getent ahostsv4 store | awk 'NR==1 {print $1}'", "10.45.8.20", gauge...)
	l.look("the one with an address finds the other by name", "getent ahostsv4 gauge | awk 'NR==1 {print $1}'",
		strings.TrimPrefix(gauge[0], "mira@"), store...)
	l.look("they reach each other", "bash -c ': </dev/tcp/gauge/22' && echo there", "there", store...)
	l.holds(gauge, store)
	if out, code := l.step(0); code != 0 || strings.Count(out, " is running\n") != 3 {
		t.Errorf("starting what runs: exit code %d\n%s", code, out)
	}
	if out, code := l.step(1); code != 0 || strings.Count(out, " is off\n") != 3 {
		t.Fatalf("stopping: exit code %d\n%s", code, out)
	}
	if out, code := l.step(0, "almanac"); code != 0 {
		t.Fatalf("starting again: exit code %d\n%s", code, out)
	}
	l.wait(almanac...)
	l.look("the first boot isn't repeated", "cat /var/lib/once /var/lib/starts", "ran\nstarted\nstarted", almanac...)
	l.look("the data disk kept its content", "cat /srv/almanac/kept", "kept", almanac...)
	if out, code := l.step(1, "almanac"); code != 0 {
		t.Errorf("stopping: exit code %d\n%s", code, out)
	}
	out, code = l.step(2, "--yes")
	if code != 0 || !strings.Contains(out, "kept: volume boot-by-libvirt-almanac-pages.qcow2 in pool default") {
		t.Errorf("removing: exit code %d\n%s", code, out)
	}
	left := virsh("nwfilter-list") + virsh("list", "--all", "--name") + virsh("net-list", "--all", "--name") + virsh("vol-list", "default")
	if strings.Count(left, "boot-by-libvirt") != 2 || !strings.Contains(left, "boot-by-libvirt-almanac-pages.qcow2") {
		t.Errorf("left after removal, beside the disk that is kept:\n%s", left)
	}
}

// holds looks at the firewall of store: a port that it allows answers, another does not,
// neither to another machine nor to the host, and not even without the rules inside.
func (l *byLibvirt) holds(gauge, store []string) {
	l.t.Helper()
	const try = "timeout 5 bash -c ': </dev/tcp/10.45.8.20/%d' 2>/dev/null && echo there || echo refused"
	l.look("something listens", listen, "there", store...)
	l.look("an allowed port", fmt.Sprintf(try, 22), "there", gauge...)
	l.look("another port", fmt.Sprintf(try, 8080), "refused", gauge...)
	if connection, err := net.DialTimeout("tcp", "10.45.8.20:8080", 5*time.Second); err == nil {
		connection.Close()
		l.t.Error("the host reaches a port that the firewall refuses")
	}
	l.ssh("sudo nft delete table inet stavren", store...)
	l.look("libvirt's filter alone, an allowed port", fmt.Sprintf(try, 22), "there", gauge...)
	l.look("libvirt's filter alone, another port", fmt.Sprintf(try, 8080), "refused", gauge...)
}

// leaseOf returns the address that a network's DHCP server gave to a machine.
func leaseOf(t *testing.T, network, name string) string {
	t.Helper()
	for range 100 {
		for line := range strings.Lines(virsh("net-dhcp-leases", network)) {
			words := strings.Fields(line)
			if len(words) > 5 && words[5] == name {
				address, _, _ := strings.Cut(words[4], "/")
				if net.ParseIP(address) != nil {
					return address
				}
			}
		}
		time.Sleep(3 * time.Second)
	}
	t.Fatalf("%s got no address", name)
	return ""
}

// startLibvirt starts the daemons of libvirt if they don't run.
func startLibvirt(t *testing.T) {
	t.Helper()
	for _, daemon := range []string{"virtlogd", "libvirtd"} {
		if exec.Command("pgrep", "-x", daemon).Run() != nil {
			command(t, ".", daemon, "-d")
		}
	}
	for range 100 {
		if virsh("uri") != "" {
			return
		}
		time.Sleep(200 * time.Millisecond)
	}
	t.Fatal("libvirtd doesn't answer")
}

// TestSharedImage starts machines whose root disks are based on one volume, and removes
// them one after the other. Nothing boots: their image is empty.
func TestSharedImage(t *testing.T) {
	startLibvirt(t)
	folder := t.TempDir()
	write(t, filepath.Join(folder, "f.stavren.yaml"), `stavren: 1
fleet: shared-image
images:
  bookworm: {os: debian-12, file: empty.img}
platforms: {libvirt: {settings: {images: shared}}}
machines:
  store: {image: bookworm, disks: {root: {size: 2GiB}}}
  gauge: {image: bookworm, disks: {root: {size: 3GiB}}}
`)
	command(t, folder, "qemu-img", "create", "-q", "-f", "raw", "empty.img", "1M")
	command(t, ".", "go", "run", "stavren.example/stavren/cmd/stavren", "render", "libvirt",
		filepath.Join(folder, "f.stavren.yaml"), "-o", filepath.Join(folder, "out"))
	run := func(machine string, words ...string) {
		c := exec.Command("sh", append([]string{filepath.Join(folder, "out", machine, "run.sh")}, words...)...)
		c.Env = append(os.Environ(), "STAVREN_ACCEL=tcg")
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("%s %v: %v\n%s", machine, words, err, out)
		}
	}
	bases := func() int { return strings.Count(virsh("vol-list", "default"), "\n shared-image-bookworm-") }
	for i, machine := range []string{"store", "gauge"} {
		run(machine)
		t.Cleanup(func() { virsh("destroy", "shared-image-"+machine) })
		volume := virsh("vol-dumpxml", "--pool", "default", "shared-image-"+machine+"-root.qcow2")
		if !strings.Contains(volume, "<backingStore>") || bases() != 1 {
			t.Errorf("%d volumes as a base; the disk of %s:\n%s", bases(), machine, volume)
		}
		if want := fmt.Sprintf("<capacity unit='bytes'>%d</capacity>", (2+i)<<30); !strings.Contains(volume, want) {
			t.Errorf("the disk of %s has another size:\n%s", machine, volume)
		}
	}
	for i, machine := range []string{"store", "gauge"} {
		virsh("destroy", "shared-image-"+machine)
		run(machine, "remove", "--yes")
		if want := 1 - i; bases() != want {
			t.Errorf("after %s is removed, %d volumes are a base, want %d", machine, bases(), want)
		}
	}
	if left := virsh("vol-list", "default"); strings.Contains(left, "shared-image-") {
		t.Errorf("left:\n%s", left)
	}
}
