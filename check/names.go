package check

import (
	"fmt"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/nearest"
)

// example puts an excerpt into a definition that is otherwise sound: where it
// says image: bookworm, a kit brings the image and a way to log in as well.
func example(machines string) string {
	return `stavren: 1
fleet: tide-office
images:
  bookworm: {os: debian-12, file: images/debian-12.qcow2}
networks:
  quay: {mode: nat, subnet: 10.44.7.0/24}
keys:
  ops: {text: "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGvoaO8vI6N0Mop8mvDoR09k4cSDplDLDgwwYrQYFy6l ops"}
kits:
  base:
    image: bookworm
    users: {mira: {admin: without-password, keys: [ops]}}
    ports: {ssh: {machine: 22}}
machines:
` + strings.ReplaceAll(machines, "image: bookworm", "kits: [base]")
}

// withNetwork is the example with other words for the network quay; machines are
// on it and, if there is one, on the network pier.
func withNetwork(quay string) string {
	machines := "  almanac: {image: bookworm, nics: {quay: {address: 10.44.7.20}}}\n"
	if strings.Contains(quay, "/30") || strings.Contains(quay, "/29") {
		machines = "  almanac: {image: bookworm}\n"
	}
	if strings.Contains(quay, "pier:") {
		machines = "  almanac: {image: bookworm, nics: {quay: {}, pier: {}}}\n"
	}
	return strings.Replace(example(machines), "mode: nat, subnet: 10.44.7.0/24", quay, 1)
}

var unknownImage = Rule{
	Rule: finding.Rule{
		Name: "unknown-image", Severity: finding.Error, Theme: "names",
		Why:   "A machine boots an image that the definition does not define, so there is nothing to boot.",
		Wrong: example("  almanac: {image: bookworm, image: bokworm}\n  store: {image: bookworm}\n"),
		Right: example("  almanac: {image: bookworm}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		if m.Image != "" && f.Image(m.Image) == nil {
			p.report(m.PlaceOf("image"), machinePath(m, "image"),
				fmt.Sprintf("machine %s boots the image %q, which is not defined", m.Name, m.Image),
				meant(m.Image, "images", imageNames(f)))
		}
	},
}

var unknownSystem = Rule{
	Rule: finding.Rule{
		Name: "unknown-system", Severity: finding.Error, Theme: "names",
		Why:   "Package manager, administrators' group and usual shell depend on the system on the image. Stavren knows them for the systems in its list only.",
		Wrong: strings.Replace(example("  almanac: {image: bookworm}\n"), "debian-12,", "debian-1.2,", 1),
		Right: example("  almanac: {image: bookworm}\n"),
	},
	load: func(p *pass) {
		for f := range p.each() {
			for _, image := range f.Images {
				if _, known := catalog.Find(f, image.OS); !known {
					p.report(image.PlaceOf("os"), "images."+image.Name+".os",
						fmt.Sprintf("image %s holds the system %q, which is not in the list", image.Name, image.OS),
						nearest.Remedy(image.OS, systemNames())+"")
				}
			}
		}
	},
}

var unknownNetwork = Rule{
	Rule: finding.Rule{
		Name: "unknown-network", Severity: finding.Error, Theme: "names",
		Why:   "A network interface hangs on a network that the definition does not define. Its name is the network's unless `network` says otherwise.",
		Wrong: example("  almanac: {image: bookworm, nics: {key: {}}}\n"),
		Right: example("  almanac: {image: bookworm, nics: {quay: {}}}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		for _, nic := range m.NICs {
			if f.Network(nic.Network) == nil {
				p.report(nic.PlaceOf("network"), machinePath(m, "nics", nic.Name),
					fmt.Sprintf("machine %s is on the network %q, which is not defined", m.Name, nic.Network),
					meant(nic.Network, "networks", networkNames(f)))
			}
		}
	},
}

var unknownKey = Rule{
	Rule: finding.Rule{
		Name: "unknown-key-name", Severity: finding.Error, Theme: "names",
		Why:   "A user is let in by a key that the definition does not define, so the user would be shut out.",
		Wrong: example("  almanac: {image: bookworm, users: {mira: {keys: [opps]}}}\n"),
		Right: example("  almanac: {image: bookworm, users: {mira: {keys: [ops]}}}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		for _, user := range m.Users {
			for _, name := range user.Keys {
				if f.Key(name) == nil {
					p.report(user.PlaceOfItem("keys", name), machinePath(m, "users", user.Name, "keys"),
						fmt.Sprintf("user %s of machine %s logs in with the key %q, which is not defined", user.Name, m.Name, name),
						meant(name, "keys", keyNames(f)))
				}
			}
		}
	},
}

var unknownFirewall = Rule{
	Rule: finding.Rule{
		Name: "unknown-firewall", Severity: finding.Error, Theme: "names",
		Why:   "A machine is put behind a firewall that the definition does not define, so nobody could say who may come in.",
		Wrong: example("  almanac: {image: bookworm, firewall: [offise]}\nfirewalls:\n  office: {allow: [{port: 22/tcp, from: 198.51.100.0/24}]}\n"),
		Right: example("  almanac: {image: bookworm, firewall: [office]}\nfirewalls:\n  office: {allow: [{port: 22/tcp, from: 198.51.100.0/24}]}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		for _, name := range m.Firewall {
			if f.Firewall(name) == nil {
				var known []string
				for _, firewall := range f.Firewalls {
					known = append(known, firewall.Name)
				}
				p.report(m.PlaceOfItem("firewall", name), machinePath(m, "firewall"),
					fmt.Sprintf("machine %s is behind the firewall %q, which is not defined", m.Name, name), meant(name, "firewalls", known))
			}
		}
	},
}

var unknownSecret = Rule{
	Rule: finding.Rule{
		Name: "unknown-secret", Severity: finding.Error, Theme: "names",
		Why:   "A password is the name of a secret that the definition does not define. Often the password itself was typed in where its secret's name belongs; the message does not repeat it.",
		Wrong: example("  almanac: {image: bookworm, users: {mira: {password: high-water}}}\nsecrets:\n  mira-password: {env: MIRA_PASSWORD}\n"),
		Right: example("  almanac: {image: bookworm, users: {mira: {password: mira-password}}}\nsecrets:\n  mira-password: {env: MIRA_PASSWORD}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		var known []string
		for _, secret := range f.Secrets {
			known = append(known, secret.Name)
		}
		remedy := "define under secrets where it is read from, and write the secret's name here, never the password; " + nearest.Remedy("", known)
		for _, user := range m.Users {
			if user.Password != "" && f.Secret(user.Password) == nil {
				p.reportSecret(user.PlaceOf("password"), machinePath(m, "users", user.Name, "password"),
					fmt.Sprintf("the password of user %s of machine %s names no secret that is defined", user.Name, m.Name), remedy)
			}
		}
		if m.Console.Password != "" && f.Secret(m.Console.Password) == nil {
			p.reportSecret(m.Console.PlaceOf("password"), machinePath(m, "console", "password"),
				fmt.Sprintf("the password of the console of machine %s names no secret that is defined", m.Name), remedy)
		}
	},
}

// machinePath leads to a value of a machine.
func machinePath(m *fleet.Machine, keys ...string) string {
	return "machines." + m.Name + "." + strings.Join(keys, ".")
}

// meant words the remedy for a name that leads nowhere.
func meant(name, section string, known []string) string {
	if near := nearest.Word(name, known); near != "" {
		return fmt.Sprintf("did you mean %q? If not, define it under %s", near, section)
	}
	return "define it under " + section + "; " + nearest.Remedy(name, known)
}

func imageNames(f *fleet.Fleet) (names []string) {
	for _, image := range f.Images {
		names = append(names, image.Name)
	}
	return names
}

func networkNames(f *fleet.Fleet) (names []string) {
	for _, network := range f.Networks {
		names = append(names, network.Name)
	}
	return names
}

func keyNames(f *fleet.Fleet) (names []string) {
	for _, key := range f.Keys {
		names = append(names, key.Name)
	}
	return names
}

func systemNames() (names []string) {
	for _, system := range catalog.Systems() {
		names = append(names, system.Name)
	}
	return names
}
