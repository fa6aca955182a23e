package check

import (
	"fmt"
	"slices"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

var hashWeak = Rule{
	Rule: finding.Rule{
		Name: "password-hash-weak", Severity: finding.Warning, Theme: "users",
		Why:   "The password is hashed in a way that is guessed at by the thousand million a second. Whoever sees the first-boot data soon has the password.",
		Wrong: example("  almanac: {image: bookworm, users: {mira: {password_hash: \"$1$saltsalt$qjXMvbEw8oaL.CzflDtaK/\"}}}\n"),
		Right: example("  almanac: {image: bookworm, users: {mira: {password_hash: \"$6$saltsalt$hashhashhash\"}}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		for _, user := range m.Users {
			if strings.HasPrefix(user.PasswordHash, "$1$") || strings.HasPrefix(user.PasswordHash, "$3$") || strings.HasPrefix(user.PasswordHash, "$sha1$") {
				p.reportSecret(user.PlaceOf("password_hash"), machinePath(m, "users", user.Name, "password_hash"),
					fmt.Sprintf("the password of user %s of machine %s is hashed in a weak way", user.Name, m.Name), "hash it anew with `openssl passwd -6`, or name a secret under password")
			}
		}
	},
}

var keyShared = Rule{
	Rule: finding.Rule{
		Name: "key-shared-by-people", Severity: finding.Advice, Theme: "keys",
		Why:   "Several people log in by the same key. Nobody can tell who it was, and nobody can be taken out without changing it for all.",
		Wrong: example("  almanac: {image: bookworm, users: {jonas: {keys: [ops]}}}\n"),
		Right: example("  almanac: {image: bookworm, users: {jonas: {}}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		holder := map[string]*fleet.User{}
		for _, user := range m.Users {
			for _, name := range user.Keys {
				if first := holder[name]; first != nil {
					p.report(user.PlaceOfItem("keys", name), machinePath(m, "users", user.Name, "keys"),
						fmt.Sprintf("users %s and %s of machine %s log in by the same key %s", first.Name, user.Name, m.Name, name), "give each a key of their own")
					continue
				}
				holder[name] = user
			}
		}
	},
}

var mediumStays = Rule{
	Rule: finding.Rule{
		Name: "medium-boots-forever", Severity: finding.Warning, Theme: "disks",
		Why:   "The machine starts from the disc, ahead of its disk, and the disc stays in. After the installation it starts the installation again.",
		Wrong: example("  almanac: {image: bookworm, media: {install: {file: install.iso, boot_first: true}}}\n"),
		Right: example("  almanac: {image: bookworm, media: {install: {file: install.iso, boot_first: true, eject: true}}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		for _, medium := range m.Media {
			if medium.BootFirst && !medium.Eject {
				p.report(medium.PlaceOf("boot_first"), machinePath(m, "media", medium.Name, "boot_first"),
					fmt.Sprintf("machine %s starts from %s at every boot", m.Name, medium.Name), "add eject: true, or remove boot_first")
			}
		}
	},
}

var busCannotBoot = Rule{
	Rule: finding.Rule{
		Name: "bus-cannot-boot", Severity: finding.Error, Theme: "disks",
		Why:   "A BIOS does not find a system on an NVMe disk, and Windows comes without drivers for virtio. The machine stops before it has begun.",
		Wrong: example("  almanac: {image: bookworm, disks: {root: {bus: nvme}}}\n"),
		Right: example("  almanac: {image: bookworm, disks: {root: {bus: nvme}}, firmware: {kind: uefi}}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		root := m.Disks[0]
		why, remedy := "", ""
		switch {
		case root.Bus == fleet.NVMe && m.Firmware.Kind == fleet.BIOS:
			why, remedy = "is on NVMe, from which a BIOS does not start", "add firmware: {kind: uefi}, or choose another bus"
		case root.Bus == fleet.VirtIO && isWindows(f, m):
			why, remedy = "is on virtio, for which Windows brings no drivers", "write bus: sata for the root disk"
		default:
			return
		}
		p.report(placeOf(m, &root.Origins, "bus"), machinePath(m, "disks", root.Name, "bus"), fmt.Sprintf("the root disk of machine %s %s", m.Name, why), remedy)
	},
}

// onceCommands make something that is there the next time.
var onceCommands = []string{"useradd", "groupadd", "adduser", "addgroup", "mkswap", "createuser", "createdb"}

var everyBootNotRepeatable = Rule{
	Rule: finding.Rule{
		Name: "script-not-repeatable", Severity: finding.Warning, Theme: "first boot",
		Why:   "The script runs at every boot and makes something that is there from the second on: the command fails, or formats what holds data.",
		Wrong: example("  almanac: {image: bookworm, first_boot: {scripts: {tides: {when: every-boot, text: \"useradd tides\\n\"}}}}\n"),
		Right: example("  almanac: {image: bookworm, first_boot: {scripts: {tides: {when: every-boot, text: \"id tides || useradd tides\\n\"}}}}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		for _, s := range m.FirstBoot.Scripts {
			if s.When != fleet.EveryBoot {
				continue
			}
			for _, c := range p.script(f, m, s).commands {
				if !c.guarded && (slices.Contains(onceCommands, c.name()) || strings.HasPrefix(c.name(), "mkfs")) {
					p.report(s.PlaceAt(c.line, c.column), machinePath(m, "first_boot", "scripts", s.Name),
						fmt.Sprintf("script %s runs at every boot, and %s works once", s.Name, c.name()), "ask first whether it is there, or write when: once")
				}
			}
		}
	},
}

var portStopped = Rule{
	Rule: finding.Rule{
		Name: "port-stopped-by-firewall", Severity: finding.Advice, Theme: "firewall",
		Why:   "A port that is forwarded on a laptop becomes an opening in the firewall on a cloud. The firewalls of this machine, which has a public address, do not let anybody in to it.",
		Wrong: example("  almanac: {image: bookworm, public_address: true, firewall: [f], ports: {site: {machine: 80}}}\nfirewalls:\n  f: {allow: [{port: 22/tcp, from: 198.51.100.0/24}]}\n"),
		Right: example("  almanac: {image: bookworm, public_address: true, firewall: [f], ports: {site: {machine: 80}}}\nfirewalls:\n  f: {allow: [{port: 22/tcp, from: 198.51.100.0/24}, {port: 80/tcp, from: 198.51.100.0/24}]}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		if !m.PublicAddress || len(m.Firewall) == 0 {
			return
		}
		for _, port := range m.Ports {
			// What is for logging in has a rule of its own.
			if port.Machine == 22 || port.Machine == 3389 || letsIn(f, m, port.Protocol, port.Machine) {
				continue
			}
			p.report(placeOf(m, &port.Origins, "machine"), machinePath(m, "ports", port.Name),
				fmt.Sprintf("port %s of machine %s leads to %d/%s, which no firewall of the machine lets anybody in to", port.Name, m.Name, port.Machine, port.Protocol),
				"allow it in a firewall, or accept it if it is for the laptop alone")
		}
	},
}

var restartNeeded = Rule{
	Rule: finding.Rule{
		Name: "restart-needed-in-between", Severity: finding.Warning, Theme: "first boot",
		Why:   "The upgrade may bring a new kernel, whose modules are on the disk while the old kernel runs. Loading a module then fails until the machine has restarted.",
		Wrong: example("  almanac: {image: bookworm, first_boot: {upgrade: true, scripts: {tides: {text: \"modprobe wireguard\\n\"}}}}\n"),
		Right: example("  almanac: {image: bookworm, first_boot: {scripts: {tides: {text: \"modprobe wireguard\\n\"}}}}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		if !m.FirstBoot.Upgrade {
			return
		}
		for _, s := range m.FirstBoot.Scripts {
			for _, c := range p.script(f, m, s).commands {
				if (c.name() == "modprobe" || c.name() == "insmod") && s.When == fleet.Once {
					p.report(s.PlaceAt(c.line, c.column), machinePath(m, "first_boot", "scripts", s.Name),
						fmt.Sprintf("script %s loads a kernel module after an upgrade that may bring a new kernel", s.Name),
						"write when: every-boot and restart: true, or leave out the upgrade")
				}
			}
		}
	},
}

var secretInPlatformData = Rule{
	Rule: finding.Rule{
		Name: "secret-in-platform-data", Severity: finding.Warning, Theme: "first boot",
		Why:   "The definition speaks of a cloud, where whoever may look at the machine's metadata reads its first-boot data, and with it the secrets. So does every program in the machine.",
		Wrong: secretExample("platforms:\n  heat: {network: quay-net}\n"),
		Right: secretExample(""),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		if len(f.Platforms) == 0 {
			return
		}
		var platforms []string
		for _, platform := range f.Platforms {
			platforms = append(platforms, platform.Name)
		}
		for _, file := range m.FirstBoot.Files {
			if file.HasSecrets() {
				p.report(file.PlaceOf(fleet.Itself), machinePath(m, "first_boot", "files", file.Path),
					fmt.Sprintf("%s of machine %s holds a secret, which %s would show to whoever sees the machine's metadata", file.Path, m.Name, strings.Join(platforms, " and ")),
					"let the machine fetch the secret by its identity, or accept it if it never goes there")
			}
		}
	},
}

// secretExample is a machine with a file that holds a secret.
func secretExample(platforms string) string {
	text := example("  almanac: {image: bookworm, first_boot: {files: {/etc/tide.conf: {text: \"{{ secret `door` }}\", fill: true, mode: \"0600\"}}}}\nsecrets:\n  door: {env: DOOR}\n" + platforms)
	return strings.Replace(text, "os: debian-12,", "os: debian-12, ids: {heat: Debian 12},", 1)
}

// letsIn reports whether a firewall of the machine lets anybody in to a port.
func letsIn(f *fleet.Fleet, m *fleet.Machine, protocol fleet.Protocol, port int) bool {
	for _, name := range m.Firewall {
		firewall := f.Firewall(name)
		if firewall == nil || slices.ContainsFunc(firewall.Allow, func(a *fleet.Allowance) bool {
			return a.Port.Protocol == fleet.AnyProtocol || a.Port.Protocol == protocol && a.Port.First <= port && port <= a.Port.Last
		}) {
			return true
		}
	}
	return false
}
