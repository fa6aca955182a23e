//go:build boot

// Package boot starts a real machine from what Stavren rendered and looks inside
// it over SSH. It needs root (to build its image), debootstrap, extlinux, QEMU,
// dpkg-deb and an SSH client; CI installs them. Run it with
//
//	go test -tags boot -timeout 40m ./boot
package boot

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// definition is the machine of the test. The package comes from a repository
// that the test serves on this host; the machine reaches the host at 10.44.7.2,
// the address that the rendered QEMU options give it.
const definition = `stavren: 1
fleet: boot-test
images:
  bookworm: {os: debian-12, file: images/debian.qcow2}
networks:
  quay: {mode: nat, subnet: 10.44.7.0/24, search: [skerry.example]}
  reef: {mode: isolated, subnet: 10.44.9.0/24}
keys:
  ops: {file: keys/ops.pub}
firewalls:
  reef: {allow: [{port: 22/tcp, from: 10.44.9.0/24}]}
secrets:
  door: {file: door.txt}
kits:
  shore:
    image: bookworm
    domain: skerry.example
    time: {zone: Atlantic/Faroe}` + beside + `
machines:
  almanac:
    kits: [shore]
    firewall: [reef]
    resources: {cpus: 2, memory: 1GiB}
    disks:
      root: {size: 3GiB}
      pages: {size: 1GiB, filesystem: ext4, mount: /srv/almanac, keep: true}
    nics:
      quay: {address: 10.44.7.20}
      reef: {address: 10.44.9.20}
    ports:
      ssh: {host: auto, machine: 22}
    users:
      mira: {full_name: Mira Holm, groups: [adm], admin: without-password, keys: [ops]}
      eyd: {full_name: Eyð Dam, keys: [ops]}
      jonas: {uid: 1600, shell: /bin/sh, home: /srv/jonas, password: door}
    first_boot:
      swap: 64MiB
      services: [tide-clock]
      packages: [tide-tools]
      files:
        /etc/apt/sources.list: {text: "deb [trusted=yes] http://10.44.7.2:%d/ ./\n"}
        /etc/tide/store.conf:
          text: "quotes ' \" and $(false)\n\ttab, snowman ☃, wave 🌊\n"
          mode: "0640"
          owner: root:adm
        /etc/tide/door.conf: {fill: true, mode: "0600", text: "door={{ secret ` + "`door`" + ` }} of {{ self ` + "`full_name`" + ` }}\n"}
        /etc/systemd/system/tide-clock.service: {text: "[Service]\nType=oneshot\nRemainAfterExit=true\nExecStart=/bin/true\n[Install]\nWantedBy=multi-user.target\n"}
        /srv/almanac/index.html: {text: "tides\n", owner: "mira:mira"}
      scripts:
        tables:
          text: |
            set -eu
            mkdir -p /var/lib/tide
            echo ran >>/var/lib/tide/once
        by-mira: {run_as: mira, text: "id -un >~/ran\n"}
        tide-mark:
          when: every-boot
          text: |
            mkdir -p /var/lib/tide
            echo started >>/var/lib/tide/starts
  store:
    kits: [shore, beside]
    disks: {root: {size: 3GiB, bus: scsi}}
    nics: {quay: {}, reef: {}}
    firmware: {kind: uefi}
    shares: {charts: {host: charts, machine: /srv/charts}}
  gauge:
    kits: [shore, beside]
    disks: {root: {size: 3GiB}}
    nics: {quay: {}}
`

// beside is the kit of the other machines, without what the first one tests.
const beside = `
  beside:
    resources: {cpus: 1, memory: 768MiB}
    ports: {ssh: {host: auto, machine: 22}}
    users: {mira: {admin: without-password, keys: [ops]}}
`

func TestBoot(t *testing.T) {
	image := buildImage(t)
	folder := t.TempDir()
	repository := serveRepository(t)
	write(t, filepath.Join(folder, "boot.stavren.yaml"), fmt.Sprintf(definition, repository))
	if err := os.MkdirAll(filepath.Join(folder, "images"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(image, filepath.Join(folder, "images", "debian.qcow2")); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(filepath.Join(folder, "keys"), 0o755); err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(folder, "door.txt"), "high $(water)\n")
	if err := os.MkdirAll(filepath.Join(folder, "charts"), 0o755); err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(folder, "charts/chart"), "reef\n")
	command(t, folder, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "boot test", "-f", "keys/ops")

	stavren := filepath.Join(folder, "stavren")
	command(t, ".", "go", "build", "-o", stavren, "stavren.example/stavren/cmd/stavren")
	command(t, folder, stavren, "check", "--strict", "boot.stavren.yaml")
	command(t, folder, stavren, "render", "qemu", "boot.stavren.yaml", "-o", "out")
	var config string
	for _, name := range []string{"almanac", "store", "gauge"} {
		reach := command(t, folder, stavren, "reach", "boot.stavren.yaml", name)
		_, part, found := strings.Cut(reach, "# for ~/.ssh/config\n")
		if !found {
			t.Fatalf("reach printed no SSH configuration:\n%s", reach)
		}
		config += part + "  IdentityFile " + filepath.Join(folder, "keys/ops") + "\n  UserKnownHostsFile " +
			filepath.Join(folder, "known_hosts") + "\n"
	}
	write(t, filepath.Join(folder, "ssh_config"), config)
	m := &machine{t: t, folder: folder, name: "almanac"}

	m.start()
	m.waitForSSH()
	t.Run("first boot", func(t *testing.T) {
		for _, look := range []struct{ what, run, want string }{
			{"cloud-init is done without errors",
				"cloud-init status --wait; sudo cloud-init status --long | grep -c ERROR", "status: done\n0"},
			{"host name", "hostname; hostname --fqdn", "almanac\nalmanac.skerry.example"},
			{"full name", "getent passwd mira | cut -d: -f5; getent passwd eyd | cut -d: -f5", "Mira Holm\nEyð Dam"},
			{"shell", "getent passwd eyd | cut -d: -f7", "/bin/bash"},
			{"groups", "id -nG", "mira adm"},
			{"admin rights", "sudo -n id -un", "root"},
			{"no admin rights for others", "sudo -u eyd sudo -n true 2>/dev/null && echo has rights || echo has none",
				"has none"},
			{"the image's own login is not made", "getent passwd debian || echo none", "none"},
			{"key", "wc -l <~/.ssh/authorized_keys; stat -c %a ~/.ssh/authorized_keys", "1\n600"},
			{"password login is off", "sudo sshd -T | grep -E '^passwordauthentication'", "passwordauthentication no"},
			{"address", "ip -4 -br addr show eth0 | awk '{print $3}'", "10.44.7.20/24"},
			{"route", "ip route show default | awk '{print $3}'", "10.44.7.1"},
			{"name server", "grep -rhs 'DNS=' /run/systemd/network | sort -u", "DNS=10.44.7.1"},
			{"root disk is grown", "test $(lsblk -bdno SIZE $(findmnt -no SOURCE /)) -gt 3000000000 && echo grown",
				"grown"},
			{"data disk is mounted by its label", "findmnt -rno FSTYPE,TARGET --source LABEL=pages",
				"ext4 /srv/almanac"},
			{"data disk has its serial", "ls /dev/disk/by-id | grep -c '^virtio-pages-'", "1"},
			{"file", "sudo cat /etc/tide/store.conf; sudo stat -c '%a %U:%G' /etc/tide/store.conf",
				"quotes ' \" and $(false)\n\ttab, snowman ☃, wave 🌊\n640 root:adm"},
			{"file below a mount", "cat /srv/almanac/index.html; stat -c '%a %U:%G' /srv/almanac/index.html; " +
				"mountpoint -q /srv/almanac && echo mounted", "tides\n644 mira:mira\nmounted"},
			{"package", "dpkg-query -W -f '${Status}' tide-tools; cat /usr/share/tide-tools/table",
				"install ok installedhigh water"},
			{"script ran once", "cat /var/lib/tide/once", "ran"},
			{"script ran as somebody else", "cat ~mira/ran", "mira"},
			{"time zone", "readlink /etc/localtime", "/usr/share/zoneinfo/Atlantic/Faroe"},
			{"account with number, home, shell and password", "getent passwd jonas | cut -d: -f3,6,7; sudo getent " +
				"shadow jonas | cut -d: -f2 | cut -c1-16", "1600:/srv/jonas:/bin/sh\n$6$rounds=10000$"},
			{"the password opens the account",
				`sudo python3 -c 'import crypt,spwd; h=spwd.getspnam("jonas").sp_pwdp; print(crypt.crypt("high $(water)", h) == h)' 2>/dev/null`, "True"},
			{"filled file with a secret", "sudo cat /etc/tide/door.conf; sudo stat -c %a /etc/tide/door.conf",
				"door=high $(water) of almanac.skerry.example\n600"},
			{"service is enabled and started", "systemctl is-enabled tide-clock; systemctl is-active tide-clock",
				"enabled\nactive"},
			{"swap", "/sbin/swapon --show=NAME,SIZE --noheadings --raw", "/swapfile 64M"},
			{"every-boot script ran", "cat /var/lib/tide/starts", "started"},
		} {
			m.look(t, look.what, look.run, look.want)
		}
	})
	m.ssh("echo kept | sudo tee /srv/almanac/kept /root/kept >/dev/null; sync")

	t.Run("second start while it runs", func(t *testing.T) {
		out, err := m.runScript().CombinedOutput()
		if err == nil || !strings.Contains(string(out), "already; run.sh stop ends it") {
			t.Errorf("run.sh of a running machine: error %v, output %q", err, out)
		}
	})

	testBeside(t, folder, stavren)

	m.ssh("sudo systemctl reboot")
	time.Sleep(10 * time.Second)
	m.waitForSSH()
	t.Run("restart", func(t *testing.T) {
		m.look(t, "cloud-init is done", "cloud-init status --wait", "status: done")
		m.look(t, "script ran once", "cat /var/lib/tide/once", "ran")
		m.look(t, "every-boot script ran again", "cat /var/lib/tide/starts", "started\nstarted")
		m.look(t, "firewall holds again", "sudo nft list table inet stavren | grep -c 'tcp dport 22 accept'", "2")
	})

	m.stop()
	command(t, folder, stavren, "render", "qemu", "boot.stavren.yaml", "-o", "out")
	m.start()
	m.waitForSSH()
	t.Run("second run", func(t *testing.T) {
		m.look(t, "data disk kept its content", "cat /srv/almanac/kept", "kept")
		m.look(t, "root disk kept its content", "sudo cat /root/kept", "kept")
		m.look(t, "script ran once", "cloud-init status --wait >/dev/null; cat /var/lib/tide/once", "ran")
	})
	m.stop()
}
