// Package reach finds the ways into a machine: the command, the address, and the
// forwarded port.
package reach

import (
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"

	"stavren.example/stavren/fleet"
)

// Way is one way into a machine.
type Way struct {
	// Name is the name of the forwarded port, such as "site".
	Name string `json:"name"`
	// Open is what to run or open: an SSH command, a URL, or an address.
	Open string `json:"open"`
	// From and To are its two ends: the host's port and what it leads to.
	From string `json:"from"`
	To   string `json:"to"`
}

// Machine is how to reach one machine.
type Machine struct {
	Name string `json:"machine"`
	// Logins lists the users that can log in with a key.
	Logins []string `json:"logins"`
	Ways   []Way    `json:"ways"`
	// Missing says why nobody can log in, or is empty.
	Missing string `json:"missing,omitempty"`
	// Config is an OpenSSH client configuration, or empty.
	Config string `json:"ssh_config,omitempty"`
}

// sshPort is the default port of SSH servers.
const sshPort = 22

// schemeOf returns the scheme of the URLs of a well-known port (IANA service names),
// or "".
func schemeOf(port int) string {
	switch port {
	case 80, 3000, 8080:
		return "http"
	case 443, 8443:
		return "https"
	}
	return ""
}

// Of returns how to reach a machine.
func Of(f *fleet.Fleet, m *fleet.Machine) Machine {
	result := Machine{Name: m.Name, Logins: []string{}, Ways: []Way{}}
	var login *fleet.User
	for _, user := range m.Users {
		if len(user.Keys) == 0 {
			continue
		}
		result.Logins = append(result.Logins, user.Name)
		// An administrator is the best user to log in as.
		if login == nil || login.Admin == fleet.NoAdmin && user.Admin != fleet.NoAdmin {
			login = user
		}
	}
	var ssh *fleet.Port
	for _, port := range m.Ports {
		way := Way{
			Name: port.Name,
			From: net.JoinHostPort(port.Listen.String(), strconv.Itoa(port.Host)) + "/" + string(port.Protocol),
			To:   "machine " + strconv.Itoa(port.Machine) + "/" + string(port.Protocol),
		}
		host := clientAddress(port.Listen)
		way.Open = net.JoinHostPort(host, strconv.Itoa(port.Host))
		switch scheme := schemeOf(port.Machine); {
		case port.Protocol != fleet.TCP:
		case port.Machine == sshPort && login != nil:
			way.Open = sshCommand(f, login, host, port.Host)
			if ssh == nil {
				ssh = port
			}
		case scheme != "":
			way.Open = scheme + "://" + way.Open + "/"
		}
		result.Ways = append(result.Ways, way)
	}
	if console := &m.Console; console.Kind == fleet.Graphical {
		from := net.JoinHostPort(console.Listen.String(), strconv.Itoa(console.Port)) + "/tcp"
		open := string(console.Protocol) + "://" + net.JoinHostPort(clientAddress(console.Listen),
			strconv.Itoa(console.Port))
		result.Ways = append(result.Ways, Way{Name: "console", Open: open, From: from, To: console.Resolution +
			" screen"})
	}
	switch {
	case login == nil && ssh == nil && len(m.Users) == 0:
		result.Missing = "nobody can log in: add a user with a key, under users"
	case login == nil:
		result.Missing = "nobody can log in: no user has a key; add keys to a user"
	case ssh == nil:
		result.Missing = "SSH isn't reachable: forward a port with ports: {ssh: {host: auto, machine: 22}}"
	default:
		result.Config = sshConfig(f, m, login, ssh)
	}
	return result
}

// clientAddress returns the address that a client on the host connects to for a
// listener.
func clientAddress(listen netip.Addr) string {
	switch {
	case listen.IsUnspecified() && listen.Is6():
		return "::1"
	case listen.IsUnspecified():
		return "127.0.0.1"
	}
	return listen.String()
}

func sshCommand(f *fleet.Fleet, user *fleet.User, host string, port int) string {
	command := fmt.Sprintf("ssh -p %d", port)
	if identity := identityFile(f, user); identity != "" {
		command += " -i " + identity
	}
	return command + " " + user.Name + "@" + host
}

// identityFile returns the private key of a user if it is where ssh-keygen puts it:
// beside the public key, without .pub. Otherwise it returns "".
func identityFile(f *fleet.Fleet, user *fleet.User) string {
	for _, name := range user.Keys {
		if key := f.Key(name); key != nil {
			if private, isPublic := strings.CutSuffix(key.File, ".pub"); isPublic &&
				!strings.ContainsAny(private, " '\"\\$`") {
				return private
			}
		}
	}
	return ""
}

// sshConfig renders a Host entry of ssh_config(5). The machine's host key is accepted
// on the first visit and stored under a name of its own, since many machines share
// one address. A changed key is still refused.
func sshConfig(f *fleet.Fleet, m *fleet.Machine, user *fleet.User, port *fleet.Port) string {
	var text strings.Builder
	fmt.Fprintf(&text, "Host %s\n", m.Name)
	fmt.Fprintf(&text, "  HostName %s\n", clientAddress(port.Listen))
	fmt.Fprintf(&text, "  Port %d\n", port.Host)
	fmt.Fprintf(&text, "  User %s\n", user.Name)
	fmt.Fprintf(&text, "  HostKeyAlias %s.%s\n", m.Name, f.Name)
	fmt.Fprintf(&text, "  StrictHostKeyChecking accept-new\n")
	return text.String()
}
