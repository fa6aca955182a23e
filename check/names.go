package check

import (
	"slices"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/nearest"
)

func nameRules() []rule {
	return []rule{
		ofMachine("unknown-image", finding.Error, unknownImage),
		ofFleet("unknown-system", finding.Error, unknownSystem),
		ofMachine("unknown-network", finding.Error, unknownNetwork),
		ofMachine("unknown-key-name", finding.Error, unknownKeyName),
		ofMachine("unknown-firewall", finding.Error, unknownFirewall),
		ofMachine("unknown-secret", finding.Error, unknownSecret),
		ofFleet("unknown-platform", finding.Error, unknownPlatform),
		ofMachine("name-too-long-for-windows", finding.Error, nameTooLongForWindows),
	}
}

func unknownImage(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	if m.Image != "" && f.Image(m.Image) == nil {
		known := func() []string { return namesOf(f.Images, func(i *fleet.Image) string { return i.Name }) }
		r.report(finding.OfMachine(m, "image"), "machine %s uses image %q, which is not defined", m.Name, m.Image).
			remedy("%s", r.suggest(m.Image, "images", known))
	}
}

func unknownSystem(r reporter, f *fleet.Fleet) {
	for _, image := range f.Images {
		if _, ok := catalog.Find(f, image.OS); !ok {
			r.report(finding.OfImage(image, "os"), "image %s has system %q, which is not in the list", image.Name,
				image.OS).
				remedy("%s", r.once("a system", image.OS, "define it under systems", func() string {
					return nearest.Remedy(image.OS, namesOf(catalog.Systems(), func(s catalog.System) string { return s.Name }))
				}))
		}
	}
}

func unknownNetwork(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	for _, nic := range m.NICs {
		if f.Network(nic.Network) == nil {
			known := func() []string { return namesOf(f.Networks, func(n *fleet.Network) string { return n.Name }) }
			r.report(finding.OfNIC(m, nic, "network"), "machine %s is on network %q, which is not defined", m.Name,
				nic.Network).
				remedy("%s", r.suggest(nic.Network, "networks", known))
		}
	}
}

func unknownKeyName(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	for _, user := range m.Users {
		for _, name := range user.Keys {
			if f.Key(name) != nil {
				continue
			}
			known := func() []string { return namesOf(f.Keys, func(k *fleet.Key) string { return k.Name }) }
			r.report(finding.OfUserItem(m, user, "keys", name),
				"user %s of machine %s has key %q, which is not defined", user.Name, m.Name, name).
				remedy("%s", r.suggest(name, "keys", known))
		}
	}
}

func unknownFirewall(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	for _, name := range m.Firewall {
		if f.Firewall(name) == nil {
			known := func() []string { return namesOf(f.Firewalls, func(w *fleet.Firewall) string { return w.Name }) }
			r.report(finding.OfMachineItem(m, "firewall", name), "machine %s uses firewall %q, which is not defined",
				m.Name, name).
				remedy("%s", r.suggest(name, "firewalls", known))
		}
	}
}

func unknownSecret(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	report := func(at finding.Location, whose string) {
		known := func() []string { return namesOf(f.Secrets, func(s *fleet.Secret) string { return s.Name }) }
		r.report(at, "the password of %s does not name a defined secret", whose).
			remedy("define under secrets where to read the password from, and write the secret's name here, never "+
				"the password; %s",
				r.once("a secret", "", "", func() string { return nearest.Remedy("", known()) })).
			secret()
	}
	for _, user := range m.Users {
		if user.Password != "" && f.Secret(user.Password) == nil {
			report(finding.OfUser(m, user, "password"), "user "+user.Name+" of machine "+m.Name)
		}
	}
	if m.Console.Password != "" && f.Secret(m.Console.Password) == nil {
		report(finding.OfConsole(m, "password"), "the console of machine "+m.Name)
	}
}

// windowsNameLength is the longest computer name in characters (NetBIOS).
const windowsNameLength = 15

func nameTooLongForWindows(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	if isWindows(f, m) && len(m.HostName) > windowsNameLength {
		r.report(finding.OfMachine(m, "host_name"), "the name %s has %d characters; the limit on Windows is %d",
			m.HostName, len(m.HostName), windowsNameLength).
			remedy("add a shorter host_name")
	}
}

// unknownPlatform reports names of platforms that no target has, wherever a definition
// has them. What other programs read begins with x-.
func unknownPlatform(r reporter, f *fleet.Fleet) {
	look := func(name, where string, at finding.Location) {
		if slices.Contains(catalog.Platforms(), name) || slices.Contains(r.options.Platforms, name) ||
			strings.HasPrefix(name, catalog.ForOthers) || where == "limits" && name == "host" {
			return
		}
		r.report(at, "%s names the platform %q, which is not known", where, name).
			remedy("%s", r.once("a platform", name, "write "+catalog.ForOthers+name+" for another program", func() string {
				if ours := catalog.PlatformCalled(name); ours != "" {
					return "write " + ours
				}
				return nearest.Remedy(name, catalog.Platforms())
			}))
	}
	for _, platform := range f.Platforms {
		look(platform.Name, "platforms", finding.OfPlatform(f, platform.Name, fleet.Itself))
	}
	for _, limit := range f.Limits {
		look(limit.Name, "limits", finding.OfLimit(limit, fleet.Itself))
	}
	for _, image := range f.Images {
		for _, id := range image.IDs {
			look(id.Key, "ids of image "+image.Name, finding.OfImage(image, "ids"))
		}
	}
	for _, m := range f.Machines {
		for _, platform := range m.Platforms {
			look(platform.Name, "platforms of machine "+m.Name, finding.OfMachine(m, "platforms"))
		}
	}
}
