package check

import (
	"slices"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/nearest"
)

func firewallRules() []rule {
	return []rule{
		ofMachine("open-to-world", finding.Advice, openToWorld),
		ofFleet("sensitive-port-open-to-world", finding.Warning, sensitivePortOpenToWorld),
		ofFleet("everything-open", finding.Warning, everythingOpen),
		ofFleet("unknown-source", finding.Error, unknownSource),
		ofFleet("source-without-address", finding.Error, sourceWithoutAddress),
		ofFleet("firewall-rule-shadowed", finding.Advice, firewallRuleShadowed),
		ofMachine("public-without-firewall", finding.Warning, publicWithoutFirewall),
		ofMachine("firewall-shuts-login-out", finding.Warning, firewallShutsLoginOut),
		ofMachine("port-stopped-by-firewall", finding.Advice, portStoppedByFirewall),
	}
}

// eachAllowance visits the entries of every firewall of a fleet; entry counts from
// 0 within its firewall.
func eachAllowance(f *fleet.Fleet, visit func(firewall *fleet.Firewall, entry int, allow *fleet.Allowance)) {
	for _, firewall := range f.Firewalls {
		for entry, allow := range firewall.Allow {
			visit(firewall, entry, allow)
		}
	}
}

func openToWorld(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	if !m.PublicAddress {
		return
	}
	for _, name := range m.Firewall {
		firewall := f.Firewall(name)
		if firewall == nil {
			continue
		}
		for entry, allow := range firewall.Allow {
			isService := allow.Port.Protocol == fleet.TCP || allow.Port.Protocol == fleet.UDP
			if isService && isFromAnyone(allow) && !allow.Port.IsEverything() && openSensitiveService(allow) == "" {
				r.report(finding.OfAllowance(firewall, entry, "from"), "machine %s lets anyone connect to %v", m.Name,
					allow.Port).
					remedy("accept it with a reason, or write from: with the addresses that need it")
			}
		}
	}
}

func sensitivePortOpenToWorld(r reporter, f *fleet.Fleet) {
	eachAllowance(f, func(firewall *fleet.Firewall, entry int, allow *fleet.Allowance) {
		if name := openSensitiveService(allow); name != "" {
			r.report(finding.OfAllowance(firewall, entry, "from"), "firewall %s lets anyone connect to %v, which is %s",
				firewall.Name, allow.Port, name).
				remedy("write from: with the addresses that need it, or accept it with a reason")
		}
	})
}

// openSensitiveService names the first sensitive service that an entry opens to
// everyone, or returns "". An entry that opens everything has a rule of its own.
func openSensitiveService(allow *fleet.Allowance) string {
	if !isFromAnyone(allow) || allow.Port.IsEverything() || allow.Port.Protocol != fleet.TCP {
		return ""
	}
	for port := allow.Port.First; port <= allow.Port.Last; port++ {
		if name := sensitiveService(port); name != "" {
			return name
		}
	}
	return ""
}

func everythingOpen(r reporter, f *fleet.Fleet) {
	eachAllowance(f, func(firewall *fleet.Firewall, entry int, allow *fleet.Allowance) {
		if isFromAnyone(allow) && allow.Port.IsEverything() {
			r.report(finding.OfAllowance(firewall, entry, "port"), "firewall %s lets anyone connect to anything",
				firewall.Name).
				remedy("list the ports that have to be public")
		}
	})
}

// isFromAnyone reports whether an entry allows all of IPv4 or all of IPv6.
func isFromAnyone(allow *fleet.Allowance) bool {
	if allow.FromAnyone() {
		return true
	}
	for _, prefix := range allow.From {
		if prefix.Bits() == 0 {
			return true
		}
	}
	return false
}

func firewallRuleShadowed(r reporter, f *fleet.Fleet) {
	eachAllowance(f, func(firewall *fleet.Firewall, entry int, allow *fleet.Allowance) {
		for i, other := range firewall.Allow {
			// Of two equal entries, the later one is redundant.
			if i != entry && includes(other, allow) && (i < entry || !includes(allow, other)) {
				r.report(finding.OfAllowance(firewall, entry, fleet.Itself),
					"this %v entry of firewall %s is redundant: another entry already allows it", allow.Port,
					firewall.Name).
					remedy("remove it, or restrict the other one").
					see(finding.OfAllowance(firewall, i, fleet.Itself), "already allowed here")
				return
			}
		}
	})
}

// includes reports whether one entry allows everything that another allows.
func includes(wide, narrow *fleet.Allowance) bool {
	samePorts := wide.Port.Protocol == fleet.AnyProtocol ||
		wide.Port.Protocol == narrow.Port.Protocol && wide.Port.First <= narrow.Port.First &&
			narrow.Port.Last <= wide.Port.Last
	if !samePorts || isFromAnyone(narrow) && !isFromAnyone(wide) {
		return false
	}
	if isFromAnyone(wide) {
		return true
	}
	for _, source := range narrow.FromNames {
		if !slices.Contains(wide.FromNames, source) {
			return false
		}
	}
	for _, from := range narrow.From {
		inside := false
		for _, prefix := range wide.From {
			inside = inside || prefix.Bits() <= from.Bits() && prefix.Contains(from.Addr())
		}
		if !inside {
			return false
		}
	}
	return true
}

func publicWithoutFirewall(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	if m.PublicAddress && len(m.Firewall) == 0 {
		r.report(finding.OfMachine(m, "public_address"), "machine %s has a public address but no firewall", m.Name).
			remedy("add firewall: [NAME]")
	}
}

// hasFirewalls reports whether a machine has firewalls that are all defined.
func hasFirewalls(f *fleet.Fleet, m *fleet.Machine) bool {
	for _, name := range m.Firewall {
		if f.Firewall(name) == nil {
			return false // another rule reports it
		}
	}
	return len(m.Firewall) > 0
}

// firewallShutsLoginOut reports a machine that people are to log in to, by a public address
// or on a network, and whose firewalls don't let them. A forwarded port is open to the host
// in any case.
func firewallShutsLoginOut(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	login := sshPort
	if isWindows(f, m) {
		login = remoteDesktopPort
	}
	isForwarded := slices.ContainsFunc(m.Ports, func(port *fleet.Port) bool { return port.Machine == login })
	hasLogin := slices.ContainsFunc(m.Users, func(u *fleet.User) bool { return len(u.Keys) > 0 || u.Password != "" })
	if !hasFirewalls(f, m) || f.FirewallMentions(m, fleet.TCP, login) ||
		!m.PublicAddress && (isForwarded || !hasLogin) {
		return
	}
	r.report(finding.OfMachine(m, "firewall"),
		"no firewall of machine %s allows port %d, which people log in through", m.Name, login).
		remedy("allow it from the addresses that you log in from")
}

func portStoppedByFirewall(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	if !m.PublicAddress || !hasFirewalls(f, m) {
		return
	}
	for _, port := range m.Ports {
		// Logging in has a rule of its own.
		if port.Machine == sshPort || port.Machine == remoteDesktopPort ||
			f.FirewallMentions(m, port.Protocol, port.Machine) {
			continue
		}
		r.report(finding.OfPort(m, port, "machine"),
			"port %s of machine %s leads to %d/%s, which no firewall of the machine allows",
			port.Name, m.Name, port.Machine, port.Protocol).
			remedy("allow it in a firewall, or accept this if the port is only for the laptop")
	}
}

// unknownSource reports an entry that lets others of the fleet connect who aren't defined.
func unknownSource(r reporter, f *fleet.Fleet) {
	eachAllowance(f, func(firewall *fleet.Firewall, entry int, allow *fleet.Allowance) {
		for _, source := range allow.FromNames {
			known := namesOf(f.Networks, func(n *fleet.Network) string { return n.Name })
			switch source.Kind {
			case fleet.PeerMachine:
				known = namesOf(f.Machines, func(m *fleet.Machine) string { return m.Name })
			case fleet.PeerFirewall:
				known = namesOf(f.Firewalls, func(w *fleet.Firewall) string { return w.Name })
			}
			if !slices.Contains(known, source.Name) {
				r.report(finding.OfAllowance(firewall, entry, "from"), "firewall %s lets the %s %q connect, which is not defined",
					firewall.Name, source.Kind, source.Name).
					remedy("%s", nearest.Remedy(source.Name, known))
			}
		}
	})
}

// sourceWithoutAddress reports an entry whose sources have no address that is known before
// launch.
func sourceWithoutAddress(r reporter, f *fleet.Fleet) {
	report := func(firewall *fleet.Firewall, entry int, what, remedy string) {
		r.report(finding.OfAllowance(firewall, entry, "from"), "firewall %s lets %s connect, which has no %s", firewall.Name, what,
			remedy).
			remedy("add one, or write addresses")
	}
	eachAllowance(f, func(firewall *fleet.Firewall, entry int, allow *fleet.Allowance) {
		for _, source := range allow.FromNames {
			if network := f.Network(source.Name); source.Kind == fleet.PeerNetwork {
				if network != nil && !network.Subnet.IsValid() {
					report(firewall, entry, "network "+source.Name, "subnet")
				}
				continue
			}
			for _, m := range f.Machines {
				isMeant := m.Name == source.Name
				if source.Kind == fleet.PeerFirewall {
					isMeant = slices.Contains(m.Firewall, source.Name)
				}
				if isMeant && !slices.ContainsFunc(m.NICs, func(nic *fleet.NIC) bool { return nic.Address.IsValid() }) {
					report(firewall, entry, "machine "+m.Name, "fixed address")
					break
				}
			}
		}
	})
}
