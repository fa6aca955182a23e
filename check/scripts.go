package check

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// scriptExample is a machine with one script, whose text is given in quotes.
func scriptExample(text string) string {
	return example("  almanac:\n    image: bookworm\n    first_boot: {scripts: {tables: {text: " + text + "}}}\n")
}

var scriptLineEnds = Rule{
	Rule: finding.Rule{
		Name: "script-with-windows-line-ends", Severity: finding.Error, Theme: "first boot",
		Why:   "Each line of the script ends in a carriage return, which the shell takes for a part of the last word. The interpreter line names a program that does not exist.",
		Wrong: scriptExample(`"#!/bin/sh\r\necho tide\r\n"`),
		Right: scriptExample(`"#!/bin/sh\necho tide\n"`),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		if isWindows(f, m) {
			return
		}
		for _, s := range m.FirstBoot.Scripts {
			if line := strings.Index(s.Text, "\r\n"); line >= 0 {
				p.report(s.PlaceAt(1+strings.Count(s.Text[:line], "\n"), 1), machinePath(m, "first_boot", "scripts", s.Name),
					fmt.Sprintf("script %s has line ends of Windows", s.Name), "convert it, with dos2unix or your editor, to plain line ends")
			}
		}
	},
}

var scriptByteOrderMark = Rule{
	Rule: finding.Rule{
		Name: "script-with-byte-order-mark", Severity: finding.Error, Theme: "first boot",
		Why:   "An invisible byte-order mark stands before the interpreter line, so that the kernel does not see it and the script does not start.",
		Wrong: scriptExample(`"\uFEFF#!/bin/sh\necho tide\n"`),
		Right: scriptExample(`"#!/bin/sh\necho tide\n"`),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		for _, s := range m.FirstBoot.Scripts {
			if strings.HasPrefix(s.Text, "\uFEFF") && !isWindows(f, m) {
				p.report(s.PlaceAt(1, 1), machinePath(m, "first_boot", "scripts", s.Name),
					fmt.Sprintf("script %s starts with a byte-order mark", s.Name), "save it as UTF-8 without a byte-order mark")
			}
		}
	},
}

var scriptNeedlessSudo = Rule{
	Rule: finding.Rule{
		Name: "script-with-needless-sudo", Severity: finding.Advice, Theme: "first boot",
		Why:   "Scripts run as the administrator already. On a system without sudo the command fails.",
		Wrong: scriptExample(`"sudo systemctl enable nginx\n"`),
		Right: scriptExample(`"systemctl enable nginx\n"`),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		for _, s := range m.FirstBoot.Scripts {
			for _, c := range p.script(f, m, s).commands {
				if c.sudo && s.RunAs == fleet.DefaultRunAs {
					p.report(s.PlaceAt(c.line, c.column), machinePath(m, "first_boot", "scripts", s.Name),
						fmt.Sprintf("script %s uses sudo, and runs as the administrator already", s.Name), "remove sudo")
				}
			}
		}
	},
}

// managers are the package managers of the families.
var managers = map[string]string{
	"apt": "Debian", "apt-get": "Debian", "dpkg": "Debian", "dnf": "Red Hat", "yum": "Red Hat", "zypper": "SUSE",
	"apk": "Alpine", "pacman": "Arch", "pkg": "FreeBSD",
}

var scriptForeignManager = Rule{
	Rule: finding.Rule{
		Name: "script-for-another-system", Severity: finding.Warning, Theme: "first boot",
		Why:   "The script calls the package manager of another family of systems, which is not there.",
		Wrong: scriptExample(`"dnf install -y nginx\n"`),
		Right: scriptExample(`"if command -v dnf; then dnf install -y nginx; fi\n"`),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		system, known := systemOf(f, m)
		if !known {
			return
		}
		for _, s := range m.FirstBoot.Scripts {
			commands := p.script(f, m, s).commands
			for _, c := range commands {
				family, isManager := managers[c.name()]
				if isManager && family != system.Family.Name && !looksFor(commands, c.name()) {
					p.report(s.PlaceAt(c.line, c.column), machinePath(m, "first_boot", "scripts", s.Name),
						fmt.Sprintf("script %s calls %s, and %s has %s", s.Name, c.name(), system.Title, system.Family.PackageManager),
						"use "+system.Family.PackageManager+", or name the packages under first_boot.packages")
				}
			}
		}
	},
}

// looksFor reports whether a script asks first whether a program is there.
func looksFor(commands []command, program string) bool {
	for _, c := range commands {
		if (c.name() == "which" || c.name() == "type" || c.name() == "hash" || c.name() == "command") && c.has(program) {
			return true
		}
	}
	return false
}

var fileWorldWritable = Rule{
	Rule: finding.Rule{
		Name: "file-world-writable", Severity: finding.Warning, Theme: "first boot",
		Why:   "Every program on the machine may change the file.",
		Wrong: example("  almanac: {image: bookworm, first_boot: {files: {/etc/tide.conf: {text: x, mode: \"0666\"}}}}\n"),
		Right: example("  almanac: {image: bookworm, first_boot: {files: {/etc/tide.conf: {text: x, mode: \"0644\"}}}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		for _, file := range m.FirstBoot.Files {
			if file.Mode.Perm()&0o002 != 0 {
				p.report(file.PlaceOf("mode"), machinePath(m, "first_boot", "files", file.Path, "mode"),
					fmt.Sprintf("everybody may write to %s", file.Path), "write mode: \"0644\", or \"0664\" with a group as owner")
			}
		}
	},
}

var fileSecretReadable = Rule{
	Rule: finding.Rule{
		Name: "secret-readable", Severity: finding.Warning, Theme: "first boot",
		Why:   "A file that a secret is filled into can be read by every program on the machine.",
		Wrong: example("  almanac: {image: bookworm, first_boot: {files: {/etc/tide.conf: {text: \"{{ secret `door` }}\", fill: true}}}}\nsecrets:\n  door: {env: DOOR}\n"),
		Right: example("  almanac: {image: bookworm, first_boot: {files: {/etc/tide.conf: {text: \"{{ secret `door` }}\", fill: true, mode: \"0600\"}}}}\nsecrets:\n  door: {env: DOOR}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		for _, file := range m.FirstBoot.Files {
			if file.HasSecrets() && file.Mode.Perm()&0o004 != 0 {
				p.report(file.PlaceOf("mode"), machinePath(m, "first_boot", "files", file.Path, "mode"),
					fmt.Sprintf("%s holds a secret and everybody may read it", file.Path), "write mode: \"0600\", or \"0640\" with a group as owner")
			}
		}
	},
}

var ownerMissing = Rule{
	Rule: finding.Rule{
		Name: "owner-not-made", Severity: finding.Warning, Theme: "first boot",
		Why:   "A file or script belongs to an account that no user of the machine is and that the system does not bring. Packages may bring it; if they do not, the file is left out.",
		Wrong: example("  almanac: {image: bookworm, first_boot: {files: {/etc/tide.conf: {text: x, owner: \"tide:tide\"}}}}\n"),
		Right: example("  almanac: {image: bookworm, first_boot: {files: {/etc/tide.conf: {text: x, owner: \"mira:mira\"}}}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		known := func(name string) bool {
			return slices.Contains(systemAccounts, name) || slices.ContainsFunc(m.Users, func(u *fleet.User) bool { return u.Name == name })
		}
		for _, file := range m.FirstBoot.Files {
			if user, _, _ := strings.Cut(file.Owner, ":"); !known(user) {
				p.report(file.PlaceOf("owner"), machinePath(m, "first_boot", "files", file.Path, "owner"),
					fmt.Sprintf("%s belongs to %s, whom machine %s does not have", file.Path, user, m.Name), "define the user, or accept it if a package brings the account")
			}
		}
		for _, s := range m.FirstBoot.Scripts {
			if !known(s.RunAs) {
				p.report(s.PlaceOf("run_as"), machinePath(m, "first_boot", "scripts", s.Name, "run_as"),
					fmt.Sprintf("script %s runs as %s, whom machine %s does not have", s.Name, s.RunAs, m.Name), "define the user, or accept it if a package brings the account")
			}
		}
	},
}

var shellMissing = Rule{
	Rule: finding.Rule{
		Name: "shell-not-installed", Severity: finding.Error, Theme: "users",
		Why:   "A user's login shell is not on the system and no package brings it, so that every login ends at once.",
		Wrong: example("  almanac: {image: bookworm, users: {mira: {shell: /usr/bin/zsh}}}\n"),
		Right: example("  almanac: {image: bookworm, users: {mira: {shell: /usr/bin/zsh}}, first_boot: {packages: [zsh]}}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		for _, user := range m.Users {
			shell := path.Base(user.Shell)
			if !extraShells[shell] || slices.ContainsFunc(m.FirstBoot.Packages, func(name string) bool { return strings.HasPrefix(name, shell) }) {
				continue
			}
			if system, known := systemOf(f, m); known && path.Base(system.Family.Shell) != shell && !(shell == "bash" && system.Family.Shell == "/bin/bash") {
				p.report(user.PlaceOf("shell"), machinePath(m, "users", user.Name, "shell"),
					fmt.Sprintf("user %s of machine %s has the shell %s, which %s does not bring", user.Name, m.Name, user.Shell, system.Title), "add "+shell+" to first_boot.packages")
			}
		}
	},
}

// extraShells are shells that no system, or not every one, comes with.
var extraShells = map[string]bool{"zsh": true, "fish": true, "ksh": true, "mksh": true, "tcsh": true, "bash": true, "nu": true, "xonsh": true}
