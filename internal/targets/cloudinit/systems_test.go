package cloudinit_test

import (
	"net/netip"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/internal/targets/firewall"
	"stavren.example/stavren/render"
)

// networkConfig returns the network of a machine on one network by DHCP.
func networkConfig(t *testing.T, network *fleet.Network) string {
	t.Helper()
	f, m := machine(func(f *fleet.Fleet, _ *fleet.Machine) { f.Networks = []*fleet.Network{network} })
	text, err := cloudinit.NetworkConfig(f, m, cloudinit.Virtio)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// TestNameServersByDHCP checks that what a definition says of name servers holds on
// interfaces that are on DHCP too, and that nothing is written that it doesn't say.
func TestNameServersByDHCP(t *testing.T) {
	subnet := netip.MustParsePrefix("10.44.7.0/24")
	plain := networkConfig(t, &fleet.Network{Name: "quay", Subnet: subnet})
	if strings.Contains(plain, "nameservers") || strings.Contains(plain, "use-dns") {
		t.Errorf("name servers that nobody chose:\n%s", plain)
	}
	own := networkConfig(t, &fleet.Network{Name: "quay", Subnet: subnet, DNS: []netip.Addr{subnet.Addr().Next()}})
	for _, want := range []string{`addresses: ["10.44.7.1"]`, "dhcp4-overrides: {use-dns: false}"} {
		if !strings.Contains(own, want) {
			t.Errorf("no %q in\n%s", want, own)
		}
	}
	search := networkConfig(t, &fleet.Network{Name: "quay", Subnet: subnet, Search: []string{"skerry.example"}})
	if !strings.Contains(search, "search: [skerry.example]") || strings.Contains(search, "addresses") {
		t.Errorf("search domains alone:\n%s", search)
	}
	six := networkConfig(t, &fleet.Network{Name: "quay", Mode: fleet.Bridged,
		Subnet: netip.MustParsePrefix("fd00:44::/64")})
	if !strings.Contains(six, "dhcp6: true") || strings.Contains(six, "dhcp4") {
		t.Errorf("IPv6:\n%s", six)
	}
}

// on returns the user data of a machine with some system.
func on(t *testing.T, system string, change func(m *fleet.Machine)) string {
	t.Helper()
	f, m := machine(func(f *fleet.Fleet, m *fleet.Machine) {
		f.Images[0].OS = system
		change(m)
	})
	return text(t, f, m)
}

// TestSystemsDiffer checks what systems need beyond the same data.
func TestSystemsDiffer(t *testing.T) {
	tools := func(m *fleet.Machine) { m.FirstBoot.GuestTools = true }
	root := func(m *fleet.Machine) { m.SSH.RootLogin = fleet.RootLoginByAnyWay }
	source := func(m *fleet.Machine) {
		m.FirstBoot.Sources = []*fleet.PackageSource{{Name: "tide", URL: "https://packages.skerry.example/x",
			Key: "the key", KeyName: "ops@skerry-1.rsa.pub"}}
	}
	fat := func(m *fleet.Machine) {
		m.Disks = []*fleet.Disk{{Name: "data", Size: fleet.GiB, FileSystem: "vfat", Mount: "/srv"}}
	}
	for _, c := range []struct {
		name, system string
		change       func(m *fleet.Machine)
		want, not    string
	}{
		{"udev starts the helper", "debian-12", tools, "- qemu-guest-agent\n", "enable --now qemu-guest-agent"},
		{"OpenRC has to start the helper", "alpine-3.22", tools, "rc-update add qemu-guest-agent default", ""},
		{"rc has to start the helper", "freebsd-14", tools, "service qemu_guest_agent enable", ""},
		{"root by key is the default", "debian-12", root, "disable_root: false", "PermitRootLogin"},
		{"FreeBSD refuses root", "freebsd-14", root, "PermitRootLogin prohibit-password", ""},
		{"apk finds keys by name", "alpine-3.22", source, "path: /etc/apk/keys/ops@skerry-1.rsa.pub", ""},
		{"pacman's key is there before it is imported", "arch", source,
			`/etc/pacman.d/tide.key, the key], [sh, "-c"`, "path: /etc/pacman.d/tide.key"},
		{"FreeBSD has no sudo", "freebsd-14", func(m *fleet.Machine) {
			m.Users = []*fleet.User{{Name: "mira", Admin: fleet.AdminWithoutPassword}}
		}, "packages:\n- sudo\n", ""},
		{"FreeBSD mounts by its own line", "freebsd-14", func(m *fleet.Machine) {
			m.Disks = []*fleet.Disk{{Name: "data", Size: fleet.GiB, FileSystem: "ext4", Mount: "/srv",
				Options: []string{"noatime"}}}
		}, `data, /srv, "rw,failok,noatime"]`, "mounts:"},
		{"a pool of ZFS", "freebsd-14", func(m *fleet.Machine) {
			m.Disks = []*fleet.Disk{{Name: "data", Size: fleet.GiB, FileSystem: "zfs", Mount: "/srv", Serial: "data-1"}}
		}, "!= data-1 ] || echo $d; done\", data, /srv]", "newfs"},
		{"vfat has another option for labels", "debian-12", fat, `cmd: "mkfs.vfat -n %(label)s %(device)s"`, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := on(t, c.system, c.change)
			flat := strings.ReplaceAll(got, "]\n- [", "], [")
			if !strings.Contains(flat, c.want) {
				t.Errorf("no %q in\n%s", c.want, got)
			}
			if c.not != "" && strings.Contains(flat, c.not) {
				t.Errorf("%q is in\n%s", c.not, got)
			}
		})
	}
}

// text returns the user data of a machine.
func text(t *testing.T, f *fleet.Fleet, m *fleet.Machine) string {
	t.Helper()
	data, err := cloudinit.UserData(&render.Job{Fleet: f}, m, cloudinit.Virtio)
	if err != nil {
		t.Fatal(err)
	}
	return string(data.Text)
}

// TestFirewallInside looks at how each system holds the machine's firewalls.
func TestFirewallInside(t *testing.T) {
	for _, c := range []struct {
		system string
		want   []string
	}{
		{"debian-12", []string{"apt-get install -qy nftables", "bootcmd:", "nft -f /var/lib/stavren/firewall.nft",
			"tcp dport 22 accept"}},
		{"almalinux-9", []string{"dnf -qy install nftables"}},
		{"opensuse-leap-15.6", []string{"zypper -nq install nftables"}},
		{"alpine-3.22", []string{"apk add -q nftables"}},
		{"arch", []string{"pacman -Syu --noconfirm --needed nftables"}},
		{"freebsd-14", []string{"pf_rules=$f", "block in all", "pass in inet proto tcp from any to any port 22"}},
		{"windows-server-2022", []string{`filename="00-firewall.ps1"`, "-Protocol TCP -LocalPort 22"}},
	} {
		t.Run(c.system, func(t *testing.T) {
			f, m := machine(func(f *fleet.Fleet, m *fleet.Machine) {
				f.Images[0].OS, m.Firewall = c.system, []string{"office"}
				f.Firewalls = []*fleet.Firewall{{Name: "office", Allow: []*fleet.Allowance{{
					Port: fleet.PortRange{Protocol: fleet.TCP, First: 22, Last: 22}}}}}
			})
			environment := cloudinit.Virtio
			plain, err := cloudinit.UserData(&render.Job{Fleet: f}, m, environment)
			if err != nil {
				t.Fatal(err)
			}
			environment.Firewall = func(f *fleet.Fleet, m *fleet.Machine) ([]firewall.Opening, bool) {
				return firewall.Of(f, m, netip.Addr{})
			}
			held, err := cloudinit.UserData(&render.Job{Fleet: f}, m, environment)
			if err != nil {
				t.Fatal(err)
			}
			for _, want := range c.want {
				if !strings.Contains(string(held.Text), want) || strings.Contains(string(plain.Text), want) && want != "bootcmd:" {
					t.Errorf("%q is not there, or there without the firewall:\n%s", want, held.Text)
				}
			}
		})
	}
}
