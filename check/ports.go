package check

import (
	"net/netip"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

func portRules() []rule {
	return []rule{
		ofAllFleets("port-claimed-twice", finding.Error, portClaimedTwice),
		ofMachine("port-range-exhausted", finding.Error, portRangeExhausted),
		ofMachine("port-below-limit", finding.Warning, portBelowLimit),
		ofMachine("port-in-outgoing-range", finding.Advice, portInOutgoingRange),
		ofMachine("port-listens-to-all", finding.Warning, portListensToAll),
	}
}

// listener is what takes a port of the host: a forwarded port, or the console if
// port is nil.
type listener struct {
	machine *fleet.Machine
	port    *fleet.Port
	address netip.Addr
}

func (l listener) name() string {
	if l.port == nil {
		return "console"
	}
	return "port " + l.port.Name
}

func (l listener) location() finding.Location {
	if l.port == nil {
		return finding.OfConsole(l.machine, "port")
	}
	return finding.OfPort(l.machine, l.port, "host")
}

func portClaimedTwice(t together) {
	type socket struct {
		protocol fleet.Protocol
		number   int
	}
	listeners := map[socket][]listener{}
	claim := func(f *fleet.Fleet, socket socket, self listener) {
		if socket.number == 0 {
			return
		}
		for _, other := range listeners[socket] {
			if conflict(self.address, other.address) {
				t.of(f, self.machine).report(self.location(),
					"host port %d/%s is claimed by %s of machine %s (on %v) and %s of machine %s (on %v)",
					socket.number, socket.protocol, self.name(), self.machine.Name, self.address, other.name(),
					other.machine.Name, other.address).
					remedy("give one of them another host port, or write auto to get a free one").
					see(other.location(), "claimed here first")
				break
			}
		}
		listeners[socket] = append(listeners[socket], self)
	}
	for f, m := range t.machines() {
		for _, port := range m.Ports {
			claim(f, socket{port.Protocol, port.Host}, listener{m, port, port.Listen})
		}
		if m.Console.Kind == fleet.Graphical {
			claim(f, socket{fleet.TCP, m.Console.Port}, listener{m, nil, m.Console.Listen})
		}
	}
}

// conflict reports whether two listeners on the same port exclude each other. The
// IPv6 wildcard takes IPv4 connections too on most systems.
func conflict(a, b netip.Addr) bool {
	switch {
	case a == b:
		return true
	case a.IsUnspecified():
		return a.Is6() || b.Is4() || b.IsUnspecified()
	case b.IsUnspecified():
		return conflict(b, a)
	}
	return false
}

func portRangeExhausted(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	for _, port := range m.Ports {
		if port.Host == 0 {
			r.report(finding.OfPort(m, port, "host"), "no host port is left for port %s of machine %s", port.Name,
				m.Name).
				remedy("choose a number yourself, or forward fewer ports")
		}
	}
}

func portBelowLimit(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	for _, port := range m.Ports {
		if port.Host > 0 && port.Host < 1024 {
			r.report(finding.OfPort(m, port, "host"),
				"host port %d of machine %s is below 1024, where only the administrator may listen",
				port.Host, m.Name).
				remedy("choose one from 1024 up, or write host: auto")
		}
	}
}

func portInOutgoingRange(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	for _, port := range m.Ports {
		if port.Host >= fleet.FirstOutgoingPort && port.Host <= fleet.LastOutgoingPort {
			r.report(finding.OfPort(m, port, "host"),
				"host port %d of machine %s may be taken by an outgoing connection of the host",
				port.Host, m.Name).
				remedy("choose one below %d, or write host: auto", fleet.FirstOutgoingPort)
		}
	}
}

func portListensToAll(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	for _, port := range m.Ports {
		if name := sensitiveService(port.Machine); name != "" && port.Listen.IsUnspecified() {
			r.report(finding.OfPort(m, port, "listen"), "port %s of machine %s leads to %s and listens on %v",
				port.Name, m.Name, name, port.Listen).
				remedy("remove listen to accept connections from this host only, or name one address")
		}
	}
}

// sensitiveService names the service for administration or the database that uses
// a TCP port (IANA service names), or returns "".
func sensitiveService(port int) string {
	switch port {
	case sshPort:
		return "SSH"
	case 23:
		return "Telnet"
	case remoteDesktopPort:
		return "remote desktop"
	case 5900, 5901:
		return "VNC"
	case 5985, 5986:
		return "WinRM"
	case 2375:
		return "a container engine"
	case 6443:
		return "a cluster's control plane"
	case 1433:
		return "SQL Server"
	case 1521:
		return "Oracle"
	case 3306:
		return "MySQL"
	case 5432:
		return "PostgreSQL"
	case 6379:
		return "Redis"
	case 9200:
		return "a search engine"
	case 11211:
		return "memcached"
	case 27017:
		return "MongoDB"
	}
	return ""
}
