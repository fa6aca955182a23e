package check

import (
	"fmt"
	"slices"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

var nobodyCanLogIn = Rule{
	Rule: finding.Rule{
		Name: "nobody-can-log-in", Severity: finding.Warning, Theme: "users",
		Why:   "The image's own login is not made, so a machine without a user who has a key, or a password and a way to use it, can be looked at from outside only. What went wrong at first boot stays inside.",
		Wrong: example("  almanac: {image: bookworm, users: none}\n  store: {image: bookworm}\n"),
		Right: example("  almanac: {image: bookworm}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		if isWindows(f, m) {
			return // it comes with an account of its own
		}
		for _, user := range m.Users {
			hasPassword := (user.Password != "" || user.PasswordHash != "") && !user.Locked
			if len(user.Keys) > 0 || hasPassword && (m.SSH.PasswordLogin || m.Console.Kind != fleet.Headless) {
				return
			}
		}
		p.report(m.PlaceOf("users"), machinePath(m, "users"),
			fmt.Sprintf("nobody can log in to machine %s: no user has a key, or a password with a way to use it", m.Name),
			"add a user with keys: [NAME], or accept it with a reason")
	},
}

var nobodyIsAdmin = Rule{
	Rule: finding.Rule{
		Name: "nobody-is-admin", Severity: finding.Warning, Theme: "users",
		Why:   "People can log in, but nobody may act as the administrator, so nothing can be mended from inside.",
		Wrong: example("  almanac: {image: bookworm, users: {mira: {admin: no}}}\n"),
		Right: example("  almanac: {image: bookworm}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		if len(m.Users) == 0 || m.SSH.RootLogin != fleet.NoRootLogin || isWindows(f, m) ||
			slices.ContainsFunc(m.Users, func(u *fleet.User) bool { return u.Admin != fleet.NoAdmin }) {
			return
		}
		p.report(m.PlaceOf("users"), machinePath(m, "users"),
			fmt.Sprintf("no user of machine %s has admin rights", m.Name), "write admin: with-password or without-password for one of them")
	},
}

var adminWithoutPassword = Rule{
	Rule: finding.Rule{
		Name: "admin-password-missing", Severity: finding.Error, Theme: "users",
		Why:   "A user may act as the administrator by giving a password, and has none: sudo asks for it and is never satisfied.",
		Wrong: example("  almanac: {image: bookworm, users: {mira: {admin: with-password}}}\n"),
		Right: example("  almanac: {image: bookworm, users: {mira: {admin: without-password}}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		for _, user := range m.Users {
			if user.Admin == fleet.AdminWithPassword && user.Password == "" && user.PasswordHash == "" {
				p.report(user.PlaceOf("admin"), machinePath(m, "users", user.Name, "admin"),
					fmt.Sprintf("user %s of machine %s is an administrator by password and has no password", user.Name, m.Name),
					"add password: NAME of a secret, or write admin: without-password")
			}
		}
	},
}

var noWayIn = Rule{
	Rule: finding.Rule{
		Name: "no-way-in", Severity: finding.Warning, Theme: "networks",
		Why:   "Nothing leads to the machine: no port is forwarded to it, it has no public address, and it is on no network that the host is on.",
		Wrong: example("  almanac: {image: bookworm, ports: none}\n"),
		Right: example("  almanac: {image: bookworm}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		if len(m.Ports) > 0 || m.PublicAddress || m.Console.Kind == fleet.Graphical {
			return
		}
		for _, nic := range m.NICs {
			if network := f.Network(nic.Network); network == nil || network.Mode == fleet.Bridged || network.Mode == fleet.HostOnly {
				return
			}
		}
		p.report(m.PlaceOf(fleet.Itself), "machines."+m.Name, fmt.Sprintf("nothing leads to machine %s from outside", m.Name),
			"forward a port with ports: {ssh: {machine: 22}}, or put it on a host-only or bridged network")
	},
}

var uidTwice = Rule{
	Rule: finding.Rule{
		Name: "uid-used-twice", Severity: finding.Error, Theme: "users",
		Why:   "Two accounts with one number are one account to the system: each owns the other's files.",
		Wrong: example("  almanac: {image: bookworm, users: {eyd: {uid: 1500}, jonas: {uid: 1500}}}\n"),
		Right: example("  almanac: {image: bookworm, users: {eyd: {uid: 1500}, jonas: {uid: 1501}}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		first := map[int]*fleet.User{}
		for _, user := range m.Users {
			earlier := first[user.UID]
			if user.UID == 0 || earlier == nil {
				first[user.UID] = user
				continue
			}
			p.report(user.PlaceOf("uid"), machinePath(m, "users", user.Name, "uid"),
				fmt.Sprintf("user %s of machine %s has the number %d, which user %s has too", user.Name, m.Name, user.UID, earlier.Name),
				"give one of them another number", finding.Related{Place: earlier.PlaceOf("uid"), Note: "used here first"})
		}
	},
}

// systemAccounts are on every system before any user is made.
var systemAccounts = []string{
	"root", "daemon", "bin", "sys", "sync", "games", "man", "lp", "mail", "news", "uucp", "proxy", "www-data", "backup", "list", "irc",
	"nobody", "messagebus", "sshd", "systemd-network", "systemd-resolve", "systemd-timesync", "operator", "shutdown", "halt", "ftp", "toor", "kmem", "tty",
}

var userReserved = Rule{
	Rule: finding.Rule{
		Name: "user-reserved", Severity: finding.Error, Theme: "users",
		Why:   "The system has an account of this name already. It would keep its number and home, and a daemon would have somebody's key.",
		Wrong: example("  almanac: {image: bookworm, users: {backup: {}}}\n"),
		Right: example("  almanac: {image: bookworm, users: {backups: {}}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		for _, user := range m.Users {
			if slices.Contains(systemAccounts, user.Name) {
				p.report(user.PlaceOf(fleet.Itself), machinePath(m, "users", user.Name),
					fmt.Sprintf("user %s of machine %s has the name of an account that the system has already", user.Name, m.Name), "choose another name")
			}
		}
	},
}

var passwordLogin = Rule{
	Rule: finding.Rule{
		Name: "login-by-password", Severity: finding.Warning, Theme: "users",
		Why:   "A password that works over SSH is guessed at from the first minute. Keys are not.",
		Wrong: example("  almanac: {image: bookworm, ssh: {password_login: true}}\n"),
		Right: example("  almanac: {image: bookworm, ssh: {password_login: false}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		if m.SSH.PasswordLogin {
			p.report(m.SSH.PlaceOf("password_login"), machinePath(m, "ssh", "password_login"),
				fmt.Sprintf("users of machine %s can log in over SSH by password", m.Name), "remove the line and use keys")
		}
	},
}

var rootLogin = Rule{
	Rule: finding.Rule{
		Name: "login-by-root", Severity: finding.Warning, Theme: "users",
		Why:   "Who logs in as root leaves no trace of who it was, and one key opens everything.",
		Wrong: example("  almanac: {image: bookworm, ssh: {root_login: by-key}}\n"),
		Right: example("  almanac: {image: bookworm, ssh: {root_login: no}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		if m.SSH.RootLogin != fleet.NoRootLogin {
			p.report(m.SSH.PlaceOf("root_login"), machinePath(m, "ssh", "root_login"),
				fmt.Sprintf("root can log in to machine %s over SSH", m.Name), "remove the line; give a user admin rights")
		}
	},
}

// isWindows reports whether a machine's system is of the Windows family.
func isWindows(f *fleet.Fleet, m *fleet.Machine) bool {
	return catalog.Of(f, m).Family.PackageManager == ""
}
