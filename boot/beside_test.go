//go:build boot

package boot

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// listen starts a server in a machine and says that it is there, to the machine itself.
const listen = "sudo systemd-run -q python3 -m http.server 8080; for i in $(seq 30); do " +
	"bash -c ': </dev/tcp/127.0.0.1/8080' 2>/dev/null && { echo there; break; }; sleep 1; done"

// testBeside starts two more machines: one with UEFI and a share, on an isolated
// network with the first, and one that fetches its first-boot data from `stavren
// serve`. Their scripts stop both.
func testBeside(t *testing.T, folder, stavren string) {
	serve := exec.Command(stavren, "serve", "boot.stavren.yaml", "--machine", "gauge", "--listen", "127.0.0.1:0")
	serve.Dir = folder
	log, err := os.Create(filepath.Join(folder, "serve.log"))
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	serve.Stdout, serve.Stderr = log, log
	if err := serve.Start(); err != nil {
		t.Fatal(err)
	}
	defer serve.Process.Kill()
	read := func() string {
		text, _ := os.ReadFile(log.Name())
		return string(text)
	}
	for range 100 {
		if strings.Contains(read(), "serving") {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	_, address, found := strings.Cut(read(), "gauge: http://127.0.0.1:")
	if !found {
		t.Fatalf("serve printed no address: %s", read())
	}
	address, _, _ = strings.Cut(address, "\n")
	store := &machine{t: t, folder: folder, name: "store"}
	// The machine sees the host at 10.44.7.2.
	gauge := &machine{t: t, folder: folder, name: "gauge", environment: []string{"STAVREN_SEED=http://10.44.7.2:" +
		address}}
	almanac := &machine{t: t, folder: folder, name: "almanac"}
	almanac.look(t, "something listens", listen, "there")
	store.start()
	store.waitForSSH()
	t.Run("UEFI, share and segment", func(t *testing.T) {
		for _, look := range []struct{ what, run, want string }{
			{"cloud-init is done", "cloud-init status --wait", "status: done"},
			{"started by UEFI", "test -d /sys/firmware/efi && echo UEFI", "UEFI"},
			{"share", "cat /srv/charts/chart; findmnt -rno FSTYPE /srv/charts; sudo sh -c 'echo drawn " +
				">/srv/charts/drawn'", "reef\nvirtiofs"},
			{"neighbour by address", "bash -c ': </dev/tcp/10.44.9.20/22' && echo there", "there"},
			{"neighbour's firewall refuses another port", "timeout 5 bash -c ': </dev/tcp/10.44.9.20/8080' 2>/dev/null || " +
				"echo refused", "refused"},
			{"neighbour by name", "bash -c ': </dev/tcp/almanac/22' && echo there", "there"},
			{"neighbour by full name", "getent hosts almanac.skerry.example",
				"10.44.9.20      almanac.skerry.example almanac"},
			{"disks have their serials", "ls /dev/disk/by-id | grep -cE '^scsi-0QEMU_QEMU_HARDDISK_root-[0-9a-f]{8}$'",
				"1"},
		} {
			store.look(t, look.what, look.run, look.want)
		}
		if text, err := os.ReadFile(filepath.Join(folder, "charts/drawn")); string(text) != "drawn\n" {
			t.Errorf("what the machine wrote to its share: %q, %v", text, err)
		}
	})
	store.stopByScript(t)
	gauge.start()
	gauge.waitForSSH()
	t.Run("first-boot data over HTTP", func(t *testing.T) {
		gauge.look(t, "cloud-init is done", "cloud-init status --wait", "status: done")
		gauge.look(t, "host name", "hostname", "gauge")
		gauge.look(t, "where the data came from", "sudo cloud-init query subplatform",
			"seed-dir (dmi,http://10.44.7.2:"+address+")")
		if !strings.Contains(read(), "GET /gauge/user-data 200") {
			t.Errorf("the server's log:\n%s", read())
		}
	})
	gauge.stopByScript(t)
	if err := serve.Process.Signal(os.Interrupt); err != nil {
		t.Error(err)
	}
	if err := serve.Wait(); err != nil {
		t.Errorf("serve ended with %v", err)
	}
}
