package bhyve

import (
	"fmt"
	"net/netip"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/firewall"
	"stavren.example/stavren/internal/targets/hypervisor"
)

// rulesFile has a machine's rules for the host's packet filter (pf.conf(5)). run.sh
// loads them into an anchor of the machine's own.
const rulesFile = "ports.pf.conf"

// packetFilter renders the rules that let a machine out to the world, redirect its ports
// and hold its firewalls, or returns "" if it needs none. The macros out and dns are the
// interface that leads to the world, and the host's name server.
func packetFilter(f *fleet.Fleet, m *fleet.Machine) string {
	rules := wayOut(f, m) + redirects(f, m) + held(f, m)
	if rules == "" {
		return ""
	}
	return "# Rules of " + m.Name + " for the host's packet filter, which run.sh loads.\n" + rules
}

// wayOut lets the machine's nat networks out, in the host's own name. The gateway's
// address answers questions of DNS by handing them on, as long as nobody chose servers.
func wayOut(f *fleet.Fleet, m *fleet.Machine) string {
	var nat, rdr strings.Builder
	for _, nic := range m.NICs {
		network := f.Network(nic.Network)
		if network == nil || network.Mode != fleet.NAT || !network.Subnet.IsValid() {
			continue
		}
		family := familyOf(network.Subnet.Addr())
		fmt.Fprintf(&nat, "nat on $out %s from %v to ! %v -> ($out)\n", family, network.Subnet, network.Subnet)
		if asksHost(network) {
			fmt.Fprintf(&rdr, "rdr pass on %s %s proto { tcp, udp } from %v to %v port 53 -> $dns\n", bridgeName(f, network),
				family, network.Subnet, network.Gateway)
		}
	}
	return nat.String() + rdr.String()
}

// asksHost reports whether machines on a network take its gateway, the host, for their
// name server because nobody chose one.
func asksHost(network *fleet.Network) bool {
	return network.Mode == fleet.NAT && network.Subnet.IsValid() && network.Gateway.IsValid() && network.IsDefault("dns")
}

// redirects lead ports of the host to the machine. A port on every address is one on the
// interface that leads to the world, since a rule for all would catch what other
// machines send out. A port on the loopback can't be redirected: the answer comes in on
// a bridge, where nothing turns its address back.
func redirects(f *fleet.Fleet, m *fleet.Machine) string {
	var text strings.Builder
	to := forwardTo(f, m)
	for _, port := range m.Ports {
		if !redirected(port) || !to.IsValid() {
			continue
		}
		on, listen := "", port.Listen.String()
		if port.Listen.IsUnspecified() {
			on, listen = " on $out", "($out)"
		}
		fmt.Fprintf(&text, "# %s\nrdr pass%s %s proto %s from any to %s port %d -> %v port %d\n", port.Name, on,
			familyOf(to), port.Protocol, listen, port.Host, to, port.Machine)
	}
	return text.String()
}

func redirected(port *fleet.Port) bool { return !port.Listen.IsLoopback() }

// held holds the machine's firewalls at the host's end of its interfaces, where
// bridged packets are filtered as well (if_bridge(4), net.link.bridge.pfil_member).
func held(f *fleet.Fleet, m *fleet.Machine) string {
	if !hypervisor.HoldsFirewalls(f, "bhyve") {
		return ""
	}
	host := netip.Addr{}
	if nic := f.ForwardingNIC(m); nic != nil {
		host = hypervisor.HostAddress(f, f.Network(nic.Network))
	}
	openings, has := firewall.Of(f, m, host)
	if !has {
		return ""
	}
	var text strings.Builder
	text.WriteString("# what the firewalls let in\n")
	for i := range m.NICs {
		text.WriteString(firewall.PFOnHost(openings, tapName(m, i)))
	}
	return text.String()
}

func familyOf(addr netip.Addr) string {
	if addr.Is6() {
		return "inet6"
	}
	return "inet"
}

// forwardTo returns the address that ports are forwarded to: that on the first nat
// network, or none.
func forwardTo(f *fleet.Fleet, m *fleet.Machine) netip.Addr {
	if nic := f.ForwardingNIC(m); nic != nil {
		return f.Assigned(nic)
	}
	return netip.Addr{}
}

// ways lists how to get into a machine: ports on the loopback are those of the machine
// itself, at its own address.
func ways(f *fleet.Fleet, m *fleet.Machine) []string {
	there := *m
	there.Ports, there.Console.Protocol = nil, fleet.VNC
	to := forwardTo(f, m)
	for _, port := range m.Ports {
		if !redirected(port) {
			direct := *port
			direct.Listen, direct.Host = to, port.Machine
			port = &direct
		}
		there.Ports = append(there.Ports, port)
	}
	return hypervisor.Ways(f, &there)
}
