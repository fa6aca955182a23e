package check

import (
	"fmt"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

// example puts an excerpt into a definition that is otherwise sound.
func example(machines string) string {
	return `stavren: 1
fleet: tide-office
images:
  bookworm: {os: debian-12, file: images/debian-12.qcow2}
networks:
  quay: {mode: nat, subnet: 10.44.7.0/24}
keys:
  ops: {text: "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGvoaO8vI6N0Mop8mvDoR09k4cSDplDLDgwwYrQYFy6l ops"}
machines:
` + machines
}

var unknownImage = Rule{
	Rule: finding.Rule{
		Name: "unknown-image", Severity: finding.Error, Theme: "names",
		Why:   "A machine boots an image that the definition does not define, so there is nothing to boot.",
		Wrong: example("  almanac: {image: bokworm}\n"),
		Right: example("  almanac: {image: bookworm}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		if m.Image != "" && f.Image(m.Image) == nil {
			p.report(m.PlaceOf("image"), machinePath(m, "image"),
				fmt.Sprintf("machine %s boots the image %q, which is not defined", m.Name, m.Image),
				"define it under images, or use "+knownNames(imageNames(f)))
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
		for _, f := range p.fleets {
			for _, image := range f.Images {
				if _, known := catalog.Lookup(image.OS); !known {
					p.report(image.PlaceOf("os"), "images."+image.Name+".os",
						fmt.Sprintf("image %s holds the system %q, which is not in the list", image.Name, image.OS),
						"use "+knownNames(systemNames()))
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
					"define it under networks, or use "+knownNames(networkNames(f)))
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
					p.report(user.PlaceOf("keys"), machinePath(m, "users", user.Name, "keys"),
						fmt.Sprintf("user %s of machine %s logs in with the key %q, which is not defined", user.Name, m.Name, name),
						"define it under keys, or use "+knownNames(keyNames(f)))
				}
			}
		}
	},
}

// machinePath leads to a value of a machine.
func machinePath(m *fleet.Machine, keys ...string) string {
	return "machines." + m.Name + "." + strings.Join(keys, ".")
}

// knownNames words a choice of names for a remedy.
func knownNames(names []string) string {
	const most = 30
	switch {
	case len(names) == 0:
		return "none: none is defined yet"
	case len(names) == 1:
		return names[0]
	case len(names) > most:
		return "one of " + strings.Join(names[:most], ", ") + fmt.Sprintf(" and %d more", len(names)-most)
	}
	return "one of " + strings.Join(names, ", ")
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
