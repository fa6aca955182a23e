package check

import (
	"path"
	"slices"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

func userRules() []rule {
	return []rule{
		ofMachine("nobody-can-log-in", finding.Warning, nobodyCanLogIn),
		ofMachine("nobody-is-admin", finding.Warning, nobodyIsAdmin),
		ofMachine("admin-password-missing", finding.Error, adminPasswordMissing),
		ofMachine("uid-used-twice", finding.Error, uidUsedTwice),
		ofMachine("user-reserved", finding.Error, userReserved),
		ofMachine("shell-not-installed", finding.Error, shellNotInstalled),
		ofMachine("login-by-password", finding.Warning, loginByPassword),
		ofMachine("login-by-root", finding.Warning, loginByRoot),
		ofMachine("password-hash-weak", finding.Warning, passwordHashWeak),
	}
}

func nobodyCanLogIn(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	if isWindows(f, m) {
		return // it has an account of its own
	}
	for _, user := range m.Users {
		hasPassword := (user.Password != "" || user.PasswordHash != "") && !user.Locked
		if len(user.Keys) > 0 || hasPassword && (m.SSH.PasswordLogin || m.Console.Kind != fleet.Headless) {
			return
		}
	}
	r.report(finding.OfMachine(m, "users"),
		"nobody can log in to machine %s: no user has a key, or a password with a way to use it", m.Name).
		remedy("add a user with keys: [NAME], or accept it with a reason")
}

func nobodyIsAdmin(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	isAdmin := func(u *fleet.User) bool { return u.Admin != fleet.NoAdmin }
	if len(m.Users) == 0 || m.SSH.RootLogin != fleet.NoRootLogin || isWindows(f, m) ||
		slices.ContainsFunc(m.Users, isAdmin) {
		return
	}
	r.report(finding.OfMachine(m, "users"), "no user of machine %s has administrator rights", m.Name).
		remedy("write admin: with-password or without-password for one of them")
}

func adminPasswordMissing(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	for _, user := range m.Users {
		if user.Admin == fleet.AdminWithPassword && user.Password == "" && user.PasswordHash == "" {
			r.report(finding.OfUser(m, user, "admin"),
				"user %s of machine %s needs a password to act as administrator but has none",
				user.Name, m.Name).
				remedy("add password: NAME of a secret, or write admin: without-password")
		}
	}
}

func uidUsedTwice(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	first := map[int]*fleet.User{}
	for _, user := range m.Users {
		earlier := first[user.UID]
		if user.UID == 0 || earlier == nil {
			first[user.UID] = user
			continue
		}
		r.report(finding.OfUser(m, user, "uid"), "users %s and %s of machine %s both have the number %d",
			user.Name, earlier.Name, m.Name, user.UID).
			remedy("give one of them another number").
			see(finding.OfUser(m, earlier, "uid"), "used here first")
	}
}

// isSystemAccount reports whether every system has an account before any user is
// created.
func isSystemAccount(name string) bool {
	switch name {
	case "root", "daemon", "bin", "sys", "sync", "games", "man", "lp", "mail", "news", "uucp", "proxy", "www-data",
		"backup", "list", "irc", "nobody", "messagebus", "sshd", "systemd-network", "systemd-resolve",
		"systemd-timesync", "operator", "shutdown", "halt", "ftp", "toor", "kmem", "tty":
		return true
	}
	return false
}

func userReserved(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	for _, user := range m.Users {
		if isSystemAccount(user.Name) {
			r.report(finding.OfUser(m, user, fleet.Itself), "user %s of machine %s has the name of a system account",
				user.Name, m.Name).
				remedy("choose another name")
		}
	}
}

func shellNotInstalled(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	system, ok := systemOf(f, m)
	if !ok {
		return
	}
	for _, user := range m.Users {
		shell := path.Base(user.Shell)
		provides := func(pkg string) bool { return strings.HasPrefix(pkg, shell) }
		if !needsPackage(shell, system.Family) || slices.ContainsFunc(m.FirstBoot.Packages, provides) {
			continue
		}
		r.report(finding.OfUser(m, user, "shell"), "user %s of machine %s has the shell %s, which %s does not include",
			user.Name, m.Name, user.Shell, system.Title).
			remedy("add %s to first_boot.packages", shell)
	}
}

// needsPackage reports whether a shell isn't part of a family of systems.
func needsPackage(shell string, family catalog.Family) bool {
	switch shell {
	case "zsh", "fish", "ksh", "mksh", "tcsh", "bash", "nu", "xonsh":
		return path.Base(family.Shell) != shell
	}
	return false
}

func loginByPassword(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	if m.SSH.PasswordLogin {
		r.report(finding.OfSSH(m, "password_login"), "users of machine %s can log in over SSH with a password", m.Name).
			remedy("remove the line and use keys")
	}
}

func loginByRoot(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	if m.SSH.RootLogin != fleet.NoRootLogin {
		r.report(finding.OfSSH(m, "root_login"), "root can log in to machine %s over SSH", m.Name).
			remedy("remove the line, and give a user administrator rights")
	}
}

// isWeakHash reports whether crypt(5) calls the method of a password hash
// unacceptable for new passwords.
func isWeakHash(hash string) bool {
	return strings.HasPrefix(hash, "$1$") || strings.HasPrefix(hash, "$3$") || strings.HasPrefix(hash, "$sha1$")
}

func passwordHashWeak(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	for _, user := range m.Users {
		if isWeakHash(user.PasswordHash) {
			r.report(finding.OfUser(m, user, "password_hash"), "the password of user %s of machine %s has a weak hash",
				user.Name, m.Name).
				remedy("make a new hash with `openssl passwd -6`, or name a secret under password").
				secret()
		}
	}
}
