package firewall_test

import (
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/firewall"
)

var host = netip.MustParseAddr("10.44.7.2")

// openings returns what the firewalls of a machine with three ports let in.
func openings(t *testing.T) []firewall.Opening {
	t.Helper()
	m := &fleet.Machine{Name: "almanac", Firewall: []string{"office", "world"}, Ports: []*fleet.Port{
		{Name: "ssh", Machine: 22, Protocol: fleet.TCP}, {Name: "buoys", Machine: 4000, Protocol: fleet.UDP}}}
	prefixes := func(texts ...string) (list []netip.Prefix) {
		for _, text := range texts {
			list = append(list, netip.MustParsePrefix(text))
		}
		return list
	}
	allow := func(port string, from ...string) *fleet.Allowance {
		ports, err := fleet.ParsePortRange(port)
		if err != nil {
			t.Fatal(err)
		}
		return &fleet.Allowance{Port: ports, From: prefixes(from...)}
	}
	f := &fleet.Fleet{Name: "tide-office", Machines: []*fleet.Machine{m}, Firewalls: []*fleet.Firewall{
		{Name: "office", Allow: []*fleet.Allowance{allow("22/tcp", "198.51.100.7/24", "2001:db8::/32"), allow("icmp")}},
		{Name: "world", Allow: []*fleet.Allowance{allow("6000-6010/udp", "0.0.0.0/0", "::/0"), allow("any", "192.0.2.0/24")}},
	}}
	list, has := firewall.Of(f, m, host)
	if !has {
		t.Fatal("the machine has no firewall")
	}
	if none, has := firewall.Of(f, &fleet.Machine{Ports: m.Ports}, host); has || none != nil {
		t.Errorf("a machine without firewalls lets in only %v", none)
	}
	return list
}

// want is what each form says of the openings, one line each.
func wantLines(t *testing.T, text string, want ...string) {
	t.Helper()
	lines := map[string]bool{}
	for line := range strings.Lines(text) {
		lines[strings.TrimSpace(line)] = true
	}
	for _, line := range want {
		if !lines[line] {
			t.Errorf("no line %q in\n%s", line, text)
		}
	}
}

func TestNFTables(t *testing.T) {
	text := firewall.NFTables(openings(t))
	wantLines(t, text, "type filter hook prerouting priority -150; policy drop;", "ct state established,related accept",
		"ip saddr 198.51.100.0/24 tcp dport 22 accept", "ip6 saddr 2001:db8::/32 tcp dport 22 accept",
		"meta l4proto { icmp, ipv6-icmp } accept", "meta nfproto ipv4 udp dport 6000-6010 accept",
		"meta nfproto ipv6 udp dport 6000-6010 accept", "ip saddr 192.0.2.0/24 accept",
		// A firewall speaks of SSH, so the forwarded port is the host's alone. Another, which
		// none speaks of, is covered by any from one network: so it is as well.
		"ip saddr 10.44.7.2/32 tcp dport 22 accept", "ip saddr 10.44.7.2/32 udp dport 4000 accept")
	nft, err := exec.LookPath("nft")
	if err != nil {
		t.Skip("nft is not installed here")
	}
	if os.Getuid() != 0 {
		t.Skip("nft reads rules for root alone")
	}
	path := filepath.Join(t.TempDir(), "rules")
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command(nft, "--check", "--file", path).CombinedOutput(); err != nil {
		t.Errorf("nft: %v\n%s", err, out)
	}
}

func TestPF(t *testing.T) {
	wantLines(t, firewall.PF(openings(t)), "block in all", "pass out all", "set skip on lo0",
		"pass in inet proto tcp from 198.51.100.0/24 to any port 22",
		"pass in inet6 proto tcp from 2001:db8::/32 to any port 22",
		"pass in inet proto icmp from any to any", "pass in inet6 proto icmp6 from any to any",
		"pass in inet proto udp from 0.0.0.0/0 to any port 6000:6010", "pass in inet from 192.0.2.0/24 to any",
		"pass in inet proto tcp from 10.44.7.2/32 to any port 22")
	wantLines(t, firewall.PFOnHost(openings(t), "tap0"), "block out on tap0 all", "pass in on tap0 all",
		"pass out on tap0 inet proto tcp from 198.51.100.0/24 to any port 22")
}

func TestPowerShell(t *testing.T) {
	text := firewall.PowerShell(openings(t))
	for _, want := range []string{
		"-Protocol TCP -LocalPort 22 -RemoteAddress 198.51.100.0/24 |", "-Protocol ICMPv6 |",
		"-Protocol UDP -LocalPort 6000-6010 -RemoteAddress 0.0.0.0-255.255.255.255 |",
		"-DisplayName 'Stavren: any' -Group 'Stavren' -Direction Inbound -Action Allow -RemoteAddress 192.0.2.0/24 |",
		"$_.Group -ne '@FirewallAPI.dll,-25000' } | Disable-NetFirewallRule",
		"Set-NetFirewallProfile -All -Enabled True -DefaultInboundAction Block\n",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("no %q in\n%s", want, text)
		}
	}
}

// TestPortsNobodySpeaksOf checks that a forwarded port stays open where no firewall has
// an entry for it.
func TestPortsNobodySpeaksOf(t *testing.T) {
	m := &fleet.Machine{Name: "almanac", Firewall: []string{"closed"},
		Ports: []*fleet.Port{{Name: "site", Machine: 80, Protocol: fleet.TCP}}}
	f := &fleet.Fleet{Machines: []*fleet.Machine{m}, Firewalls: []*fleet.Firewall{{Name: "closed"}}}
	list, _ := firewall.Of(f, m, host)
	wantLines(t, firewall.NFTables(list), "tcp dport 80 accept")
}

// TestNamesWithoutAddresses checks that an entry for names without addresses opens nothing.
func TestNamesWithoutAddresses(t *testing.T) {
	m := &fleet.Machine{Name: "almanac", Firewall: []string{"inside"}}
	f := &fleet.Fleet{Machines: []*fleet.Machine{m}, Networks: []*fleet.Network{{Name: "quay",
		Subnet: netip.MustParsePrefix("10.44.7.0/24")}}, Firewalls: []*fleet.Firewall{{Name: "inside", Allow: []*fleet.Allowance{
		{Port: fleet.PortRange{Protocol: fleet.TCP, First: 80, Last: 80},
			FromNames: []fleet.Peer{{Kind: fleet.PeerMachine, Name: "almanac"}}},
		{Port: fleet.PortRange{Protocol: fleet.TCP, First: 81, Last: 81},
			FromNames: []fleet.Peer{{Kind: fleet.PeerNetwork, Name: "quay"}}}}}}}
	list, _ := firewall.Of(f, m, netip.Addr{})
	if len(list) != 1 || list[0].First != 81 || list[0].From[0].String() != "10.44.7.0/24" {
		t.Errorf("openings %+v", list)
	}
}
