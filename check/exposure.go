package check

import (
	"fmt"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

var portBelowLimit = Rule{
	Rule: finding.Rule{
		Name: "port-below-limit", Severity: finding.Warning, Theme: "ports",
		Why:   "Ports below 1024 are for the administrator on most hosts. The machine does not start, or starts without the port, when an ordinary user starts it.",
		Wrong: example("  almanac: {image: bookworm, ports: {site: {host: 80, machine: 80}}}\n"),
		Right: example("  almanac: {image: bookworm, ports: {site: {host: 8080, machine: 80}}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		for _, port := range m.Ports {
			if port.Host > 0 && port.Host < 1024 {
				p.report(port.PlaceOf("host"), machinePath(m, "ports", port.Name, "host"),
					fmt.Sprintf("host port %d of machine %s is below 1024, where only the administrator may listen", port.Host, m.Name), "choose one from 1024 up, or write host: auto")
			}
		}
	},
}

// Outgoing connections take their ports from here on most systems: Linux from
// 32768 to 60999, others from 49152 up (RFC 6335).
const firstOutgoing, lastOutgoing = 32768, 60999

var portOutgoing = Rule{
	Rule: finding.Rule{
		Name: "port-in-outgoing-range", Severity: finding.Advice, Theme: "ports",
		Why:   "The host gives ports from 32768 to 60999 to outgoing connections. Now and then one of them has this port when the machine wants to start.",
		Wrong: example("  almanac: {image: bookworm, ports: {site: {host: 40080, machine: 80}}}\n"),
		Right: example("  almanac: {image: bookworm, ports: {site: {host: 8080, machine: 80}}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		for _, port := range m.Ports {
			if port.Host >= firstOutgoing && port.Host <= lastOutgoing {
				p.report(port.PlaceOf("host"), machinePath(m, "ports", port.Name, "host"),
					fmt.Sprintf("host port %d of machine %s may be taken by an outgoing connection of the host", port.Host, m.Name), "choose one below 32768, or write host: auto")
			}
		}
	},
}

// administration and databases are ports that are guessed at or read out as soon
// as the world reaches them (IANA service names).
var (
	administration = map[int]string{22: "SSH", 23: "Telnet", 3389: "remote desktop", 5900: "VNC", 5901: "VNC", 5985: "WinRM", 5986: "WinRM", 2375: "a container engine", 6443: "a cluster's control"}
	databases      = map[int]string{1433: "SQL Server", 1521: "Oracle", 3306: "MySQL", 5432: "PostgreSQL", 6379: "Redis", 9200: "a search engine", 11211: "memcached", 27017: "MongoDB"}
)

// sensitive names what listens on a port that the world should not reach, or "".
func sensitive(port int) string {
	if name := administration[port]; name != "" {
		return name
	}
	return databases[port]
}

var portListensToAll = Rule{
	Rule: finding.Rule{
		Name: "port-listens-to-all", Severity: finding.Warning, Theme: "ports",
		Why:   "A forwarded port for administration or a database listens on every address of the host, so that everybody on its networks reaches it.",
		Wrong: example("  almanac: {image: bookworm, ports: {ssh: {machine: 22, listen: 0.0.0.0}}}\n"),
		Right: example("  almanac: {image: bookworm, ports: {ssh: {machine: 22}}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		for _, port := range m.Ports {
			if name := sensitive(port.Machine); name != "" && port.Listen.IsUnspecified() {
				p.report(port.PlaceOf("listen"), machinePath(m, "ports", port.Name, "listen"),
					fmt.Sprintf("port %s of machine %s leads to %s and listens on %v", port.Name, m.Name, name, port.Listen),
					"remove listen, which leaves it to this host, or name one address")
			}
		}
	},
}

var sensitivePortOpen = Rule{
	Rule: finding.Rule{
		Name: "sensitive-port-open-to-world", Severity: finding.Warning, Theme: "firewall",
		Why:   "A firewall lets everybody in to a port for administration or to a database. Such ports are found within minutes and guessed at from then on.",
		Wrong: example("  almanac: {image: bookworm, firewall: [office]}\nfirewalls:\n  office: {allow: [{port: 22/tcp, from: any}]}\n"),
		Right: example("  almanac: {image: bookworm, firewall: [office]}\nfirewalls:\n  office: {allow: [{port: 22/tcp, from: 198.51.100.0/24}]}\n"),
	},
	load: func(p *pass) {
		forAllowances(p, func(firewall *fleet.Firewall, allow *fleet.Allowance, path string) {
			if name := sensitiveWithin(allow); name != "" {
				p.report(allow.PlaceOf("from"), path, fmt.Sprintf("firewall %s lets everybody in to %v, which is %s", firewall.Name, allow.Port, name),
					"write from: with the addresses that need it, or accept it with a reason")
			}
		})
	},
}

// sensitiveWithin names the first sensitive service that an allowance opens to
// everybody, or "". That everything is open is told by another rule.
func sensitiveWithin(allow *fleet.Allowance) string {
	if !fromEverybody(allow) || isEverything(allow.Port) || allow.Port.Protocol != fleet.TCP {
		return ""
	}
	for port := allow.Port.First; port <= allow.Port.Last; port++ {
		if name := sensitive(port); name != "" {
			return name
		}
	}
	return ""
}

var openToWorld = Rule{
	Rule: finding.Rule{
		Name: "open-to-world", Severity: finding.Advice, Theme: "firewall",
		Why:   "A machine with a public address lets everybody in to a service. That may well be what it is for; say so under accept, so that the next opening that nobody meant stands out.",
		Wrong: example("  almanac: {image: bookworm, public_address: true, firewall: [web]}\nfirewalls:\n  web: {allow: [{port: 443/tcp, from: any}, {port: 22/tcp, from: 198.51.100.0/24}]}\n"),
		Right: example("  almanac: {image: bookworm, public_address: true, firewall: [web], accept: {open-to-world: It serves the public}}\nfirewalls:\n  web: {allow: [{port: 443/tcp, from: any}, {port: 22/tcp, from: 198.51.100.0/24}]}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		if !m.PublicAddress {
			return
		}
		for _, name := range m.Firewall {
			firewall := f.Firewall(name)
			if firewall == nil {
				continue
			}
			for i, allow := range firewall.Allow {
				service := allow.Port.Protocol == fleet.TCP || allow.Port.Protocol == fleet.UDP
				if service && fromEverybody(allow) && !isEverything(allow.Port) && sensitiveWithin(allow) == "" {
					p.report(allow.PlaceOf("from"), fmt.Sprintf("firewalls.%s.allow.%d", name, i+1),
						fmt.Sprintf("machine %s lets everybody in to %v", m.Name, allow.Port), "accept it with a reason, or write from: with the addresses that need it")
				}
			}
		}
	},
}

var everythingOpen = Rule{
	Rule: finding.Rule{
		Name: "everything-open", Severity: finding.Warning, Theme: "firewall",
		Why:   "A firewall that lets everybody in everywhere is none.",
		Wrong: example("  almanac: {image: bookworm, firewall: [office]}\nfirewalls:\n  office: {allow: [{port: any, from: any}]}\n"),
		Right: example("  almanac: {image: bookworm, firewall: [office]}\nfirewalls:\n  office: {allow: [{port: 443/tcp, from: any}]}\n"),
	},
	load: func(p *pass) {
		forAllowances(p, func(firewall *fleet.Firewall, allow *fleet.Allowance, path string) {
			if fromEverybody(allow) && isEverything(allow.Port) {
				p.report(allow.PlaceOf("port"), path, fmt.Sprintf("firewall %s lets everybody in everywhere", firewall.Name), "name the ports that the world needs")
			}
		})
	},
}

// isEverything reports whether a range leaves no port of its protocol out.
func isEverything(ports fleet.PortRange) bool {
	return ports.Protocol == fleet.AnyProtocol || ports.First <= 1 && ports.Last == 65535
}

// fromEverybody reports whether an allowance takes the whole of IPv4 or IPv6.
func fromEverybody(allow *fleet.Allowance) bool {
	if len(allow.From) == 0 {
		return true
	}
	for _, prefix := range allow.From {
		if prefix.Bits() == 0 {
			return true
		}
	}
	return false
}

// forAllowances visits the rules of every firewall of the load.
func forAllowances(p *pass, visit func(firewall *fleet.Firewall, allow *fleet.Allowance, path string)) {
	for f := range p.each() {
		for _, firewall := range f.Firewalls {
			for i, allow := range firewall.Allow {
				visit(firewall, allow, fmt.Sprintf("firewalls.%s.allow.%d", firewall.Name, i+1))
			}
		}
	}
}

var ruleShadowed = Rule{
	Rule: finding.Rule{
		Name: "firewall-rule-shadowed", Severity: finding.Advice, Theme: "firewall",
		Why:   "An entry of a firewall lets in nobody that another one does not let in already. It looks as if it narrowed something, and does not.",
		Wrong: example("  almanac: {image: bookworm, firewall: [office]}\nfirewalls:\n  office: {allow: [{port: 443/tcp, from: any}, {port: 443/tcp, from: 198.51.100.0/24}]}\n"),
		Right: example("  almanac: {image: bookworm, firewall: [office]}\nfirewalls:\n  office: {allow: [{port: 443/tcp, from: any}]}\n"),
	},
	load: func(p *pass) {
		for f := range p.each() {
			for _, firewall := range f.Firewalls {
				for i, allow := range firewall.Allow {
					for j, other := range firewall.Allow {
						// Of two that say the same, the later one is told.
						if i != j && covers(other, allow) && (j < i || !covers(allow, other)) {
							p.report(allow.PlaceOf(fleet.Itself), fmt.Sprintf("firewalls.%s.allow.%d", firewall.Name, i+1),
								fmt.Sprintf("firewall %s: what %v lets in here is let in already", firewall.Name, allow.Port), "remove it, or narrow the other one",
								finding.Related{Place: other.PlaceOf(fleet.Itself), Note: "let in here"})
							break
						}
					}
				}
			}
		}
	},
}

// covers reports whether a lets in everything that b does.
func covers(a, b *fleet.Allowance) bool {
	samePorts := a.Port.Protocol == fleet.AnyProtocol ||
		a.Port.Protocol == b.Port.Protocol && a.Port.First <= b.Port.First && b.Port.Last <= a.Port.Last
	if !samePorts || fromEverybody(b) && !fromEverybody(a) {
		return false
	}
	if fromEverybody(a) {
		return true
	}
	for _, from := range b.From {
		inside := false
		for _, wide := range a.From {
			inside = inside || wide.Bits() <= from.Bits() && wide.Contains(from.Addr())
		}
		if !inside {
			return false
		}
	}
	return true
}

var publicWithoutFirewall = Rule{
	Rule: finding.Rule{
		Name: "public-without-firewall", Severity: finding.Warning, Theme: "firewall",
		Why:   "A machine with a public address and no firewall is shut on some clouds and open on others; nobody chose which.",
		Wrong: example("  almanac: {image: bookworm, public_address: true}\n"),
		Right: example("  almanac: {image: bookworm, public_address: true, firewall: [web]}\nfirewalls:\n  web: {allow: [{port: 22/tcp, from: 198.51.100.0/24}]}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		if m.PublicAddress && len(m.Firewall) == 0 {
			p.report(m.PlaceOf("public_address"), machinePath(m, "public_address"),
				fmt.Sprintf("machine %s has a public address and no firewall", m.Name), "add firewall: [NAME]")
		}
	},
}

var shutOut = Rule{
	Rule: finding.Rule{
		Name: "firewall-shuts-login-out", Severity: finding.Warning, Theme: "firewall",
		Why:   "The firewalls of a machine with a public address let nobody in to SSH or remote desktop, so that nobody can log in to it on a cloud.",
		Wrong: example("  almanac: {image: bookworm, public_address: true, firewall: [web]}\nfirewalls:\n  web: {allow: [{port: 443/tcp, from: 198.51.100.0/24}]}\n"),
		Right: example("  almanac: {image: bookworm, public_address: true, firewall: [web]}\nfirewalls:\n  web: {allow: [{port: 443/tcp, from: 198.51.100.0/24}, {port: 22/tcp, from: 198.51.100.0/24}]}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		if !m.PublicAddress || len(m.Firewall) == 0 {
			return
		}
		login := 22
		if isWindows(f, m) {
			login = 3389
		}
		if letsIn(f, m, fleet.TCP, login) {
			return
		}
		p.report(m.PlaceOf("firewall"), machinePath(m, "firewall"),
			fmt.Sprintf("no firewall of machine %s lets anybody in to port %d to log in", m.Name, login), "allow it from the addresses that you log in from")
	},
}
