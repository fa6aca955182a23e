package hypervisor

import (
	"fmt"
	"net/netip"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/quote"
)

// sshPort is the port of SSH inside machines.
const sshPort = 22

// Ways lists how to get into a machine that runs on this host, one line each, quoted
// for a shell script that prints them.
func Ways(f *fleet.Fleet, m *fleet.Machine) []string {
	var lines []string
	add := func(format string, args ...any) {
		lines = append(lines, quote.Shell(m.Name+": "+fmt.Sprintf(format, args...)))
	}
	user := ""
	for _, u := range m.Users {
		if len(u.Keys) > 0 || m.SSH.PasswordLogin && (u.Password != "" || u.PasswordHash != "") {
			user = u.Name
			break
		}
	}
	for _, port := range m.Ports {
		if port.Machine == sshPort && port.Protocol == fleet.TCP && user != "" {
			add("ssh -p %d %s@%s", port.Host, user, reachable(port.Listen))
			continue
		}
		add("%s on %s, port %d/%s", port.Name, port.Listen, port.Host, port.Protocol)
	}
	for _, nic := range m.NICs {
		network := f.Network(nic.Network)
		reached := network != nil && (network.Mode == fleet.HostOnly || network.Mode == fleet.Bridged)
		if reached && nic.Address.IsValid() && user != "" {
			add("ssh %s@%s", user, nic.Address)
		}
	}
	if c := &m.Console; c.Kind == fleet.Graphical {
		add("screen on %s, port %d, by %s", c.Listen, c.Port, c.Protocol)
	}
	return lines
}

// reachable returns an address of this host that a port which listens on one answers at.
func reachable(listen netip.Addr) netip.Addr {
	switch {
	case !listen.IsUnspecified():
		return listen
	case listen.Is4():
		return netip.AddrFrom4([4]byte{127, 0, 0, 1})
	}
	return netip.IPv6Loopback()
}
