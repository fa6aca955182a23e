package check

import (
	"slices"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

func firstBootRules() []rule {
	return []rule{
		ofMachine("script-not-parsed", finding.Error, scriptNotParsed),
		ofMachine("script-waits-for-answer", finding.Error, scriptWaitsForAnswer),
		ofMachine("script-with-windows-line-ends", finding.Error, scriptWithWindowsLineEnds),
		ofMachine("script-with-byte-order-mark", finding.Error, scriptWithByteOrderMark),
		ofMachine("script-with-needless-sudo", finding.Advice, scriptWithNeedlessSudo),
		ofMachine("script-for-another-system", finding.Warning, scriptForAnotherSystem),
		ofMachine("script-not-repeatable", finding.Warning, scriptNotRepeatable),
		ofMachine("restart-needed-in-between", finding.Warning, restartNeededInBetween),
		ofMachine("secret-in-platform-data", finding.Warning, secretInPlatformData),
		ofMachine("file-world-writable", finding.Warning, fileWorldWritable),
		ofMachine("secret-readable", finding.Warning, secretReadable),
		ofMachine("owner-not-made", finding.Warning, ownerNotMade),
	}
}

func scriptNotParsed(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	for _, s := range m.FirstBoot.Scripts {
		if parsed := r.scripts.parsed(f, m, s); parsed.fault != "" {
			r.report(finding.OfScriptLine(m, s, parsed.line, parsed.column), "script %s does not parse: %s", s.Name,
				parsed.fault).
				remedy("correct it, or name its interpreter in the first line if it isn't POSIX sh")
		}
	}
}

func scriptWaitsForAnswer(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	for _, s := range m.FirstBoot.Scripts {
		for _, c := range r.scripts.parsed(f, m, s).commands {
			if why, remedy := waits(c); why != "" {
				r.report(finding.OfScriptLine(m, s, c.line, c.column),
					"script %s waits for an answer at first boot: %s", s.Name, why).
					remedy("%s", remedy)
			}
		}
	}
}

func scriptWithWindowsLineEnds(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	if isWindows(f, m) {
		return
	}
	for _, s := range m.FirstBoot.Scripts {
		if at := strings.Index(s.Text, "\r\n"); at >= 0 {
			line := 1 + strings.Count(s.Text[:at], "\n")
			r.report(finding.OfScriptLine(m, s, line, 1), "script %s has Windows line endings", s.Name).
				remedy("convert it to plain line endings, with dos2unix or your editor")
		}
	}
}

func scriptWithByteOrderMark(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	for _, s := range m.FirstBoot.Scripts {
		if strings.HasPrefix(s.Text, "\uFEFF") && !isWindows(f, m) {
			r.report(finding.OfScriptLine(m, s, 1, 1), "script %s starts with a byte-order mark", s.Name).
				remedy("save it as UTF-8 without a byte-order mark")
		}
	}
}

func scriptWithNeedlessSudo(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	for _, s := range m.FirstBoot.Scripts {
		for _, c := range r.scripts.parsed(f, m, s).commands {
			if c.sudo && s.RunAs == fleet.DefaultRunAs {
				r.report(finding.OfScriptLine(m, s, c.line, c.column),
					"script %s uses sudo but already runs as the administrator", s.Name).
					remedy("remove sudo")
			}
		}
	}
}

// familyOfManager returns the family of systems that has a package manager, or "".
func familyOfManager(program string) string {
	switch program {
	case "apt-get", "dpkg":
		return catalog.Debian
	case "yum":
		return catalog.RedHat
	}
	for _, family := range catalog.Families() {
		if family.PackageManager != "" && family.PackageManager == program {
			return family.Name
		}
	}
	return ""
}

func scriptForAnotherSystem(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	system, ok := systemOf(f, m)
	if !ok {
		return
	}
	for _, s := range m.FirstBoot.Scripts {
		commands := r.scripts.parsed(f, m, s).commands
		for _, c := range commands {
			family := familyOfManager(c.name())
			if family == "" || family == system.Family.Name || looksFor(commands, c.name()) {
				continue
			}
			r.report(finding.OfScriptLine(m, s, c.line, c.column), "script %s calls %s, but %s uses %s",
				s.Name, c.name(), system.Title, system.Family.PackageManager).
				remedy("use %s, or list the packages under first_boot.packages", system.Family.PackageManager)
		}
	}
}

// looksFor reports whether a script first checks that a program exists.
func looksFor(commands []command, program string) bool {
	for _, c := range commands {
		switch c.name() {
		case "which", "type", "hash", "command":
			if c.has(program) {
				return true
			}
		}
	}
	return false
}

// worksOnce reports whether a command creates something that exists the next time.
func worksOnce(program string) bool {
	switch program {
	case "useradd", "groupadd", "adduser", "addgroup", "mkswap", "createuser", "createdb":
		return true
	}
	return strings.HasPrefix(program, "mkfs")
}

func scriptNotRepeatable(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	for _, s := range m.FirstBoot.Scripts {
		if s.When != fleet.EveryBoot {
			continue
		}
		for _, c := range r.scripts.parsed(f, m, s).commands {
			if !c.guarded && worksOnce(c.name()) {
				r.report(finding.OfScriptLine(m, s, c.line, c.column),
					"script %s runs at every boot, but %s only works once", s.Name, c.name()).
					remedy("check first whether it exists, or write when: once")
			}
		}
	}
}

func restartNeededInBetween(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	if !m.FirstBoot.Upgrade {
		return
	}
	for _, s := range m.FirstBoot.Scripts {
		if s.When != fleet.Once {
			continue
		}
		for _, c := range r.scripts.parsed(f, m, s).commands {
			if c.name() == "modprobe" || c.name() == "insmod" {
				r.report(finding.OfScriptLine(m, s, c.line, c.column),
					"script %s loads a kernel module after an upgrade that may install a new kernel", s.Name).
					remedy("write when: every-boot and restart: true, or leave out the upgrade")
			}
		}
	}
}

func secretInPlatformData(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	if len(f.Platforms) == 0 {
		return
	}
	platforms := namesOf(f.Platforms, func(p *fleet.Platform) string { return p.Name })
	for _, file := range m.FirstBoot.Files {
		if file.HasSecrets() {
			r.report(finding.OfFile(m, file, fleet.Itself),
				"%s of machine %s holds a secret, which anyone who can read the machine's metadata on %s would see",
				file.Path, m.Name, strings.Join(platforms, " and ")).
				remedy("let the machine fetch the secret with its identity, or accept this if it never goes there")
		}
	}
}

func fileWorldWritable(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	for _, file := range m.FirstBoot.Files {
		if file.Mode.Perm()&0o002 != 0 {
			r.report(finding.OfFile(m, file, "mode"), "everyone may write to %s", file.Path).
				remedy(`write mode: "0644", or "0664" with a group as owner`)
		}
	}
}

func secretReadable(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	for _, file := range m.FirstBoot.Files {
		if file.HasSecrets() && file.Mode.Perm()&0o004 != 0 {
			r.report(finding.OfFile(m, file, "mode"), "%s holds a secret, and everyone may read it", file.Path).
				remedy(`write mode: "0600", or "0640" with a group as owner`)
		}
	}
}

func ownerNotMade(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	exists := func(name string) bool {
		return isSystemAccount(name) || slices.ContainsFunc(m.Users, func(u *fleet.User) bool { return u.Name == name })
	}
	const remedy = "define the user, or accept this if a package creates the account"
	for _, file := range m.FirstBoot.Files {
		if user, _, _ := strings.Cut(file.Owner, ":"); !exists(user) {
			r.report(finding.OfFile(m, file, "owner"), "%s belongs to %s, but machine %s has no such user", file.Path,
				user, m.Name).
				remedy(remedy)
		}
	}
	for _, s := range m.FirstBoot.Scripts {
		if !exists(s.RunAs) {
			r.report(finding.OfScript(m, s, "run_as"), "script %s runs as %s, but machine %s has no such user", s.Name,
				s.RunAs, m.Name).
				remedy(remedy)
		}
	}
}
