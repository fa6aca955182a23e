package finding

import (
	"strconv"
	"strings"

	"stavren.example/stavren/fleet"
)

// Location is where a finding belongs: a place in a file and the path of the
// same value within the definition. The functions below make both from one noun
// and key, so that they can't disagree.
type Location struct {
	Place fleet.Place
	// Path leads to the value within the definition, such as
	// "machines.almanac.ports.site.host".
	Path string
}

// OfFleet locates a value at the top of a definition.
func OfFleet(f *fleet.Fleet, key string) Location { return locate(&f.Origins, key) }

// OfAccepted locates the line of a definition that accepts a rule.
func OfAccepted(f *fleet.Fleet, rule string) Location {
	return Location{f.PlaceOfItem("accept", rule), join("accept", rule)}
}

// OfImage locates a value of an image.
func OfImage(i *fleet.Image, key string) Location {
	return locate(&i.Origins, key, "images", i.Name)
}

// OfNetwork locates a value of a network.
func OfNetwork(n *fleet.Network, key string) Location {
	return locate(&n.Origins, key, "networks", n.Name)
}

// OfKey locates a key where its content is given.
func OfKey(k *fleet.Key) Location {
	key := "text"
	if k.File != "" {
		key = "file"
	}
	return locate(&k.Origins, key, "keys", k.Name)
}

// OfSecret locates a value of a secret.
func OfSecret(s *fleet.Secret, key string) Location {
	return locate(&s.Origins, key, "secrets", s.Name)
}

// OfFirewall locates a value of a firewall.
func OfFirewall(w *fleet.Firewall, key string) Location {
	return locate(&w.Origins, key, "firewalls", w.Name)
}

// OfAllowance locates a value of one of a firewall's entries, counted from 0.
func OfAllowance(w *fleet.Firewall, entry int, key string) Location {
	return locate(&w.Allow[entry].Origins, key, "firewalls", w.Name, "allow", strconv.Itoa(entry+1))
}

// OfLimit locates a value of a limit.
func OfLimit(l *fleet.Limit, key string) Location { return locate(&l.Origins, key, "limits", l.Name) }

// OfPlatform locates a value that a fleet sets for a platform. If the fleet says
// nothing of the platform, it locates the definition itself.
func OfPlatform(f *fleet.Fleet, platform, key string) Location {
	origins := &f.Origins
	place := fleet.Itself
	if settings := f.Platform(platform); settings != nil {
		origins, place = &settings.Origins, key
	}
	return Location{origins.PlaceOf(place), join("platforms", platform, key)}
}

// OfMachine locates a value of a machine.
func OfMachine(m *fleet.Machine, key string) Location { return ofPart(m, &m.Origins, key) }

// OfMachineItem locates one entry of a machine's list, such as firewall.
func OfMachineItem(m *fleet.Machine, key, item string) Location {
	return Location{m.PlaceOfItem(key, item), join("machines", m.Name, key)}
}

// OfMachineEntry locates one entry of a machine's map, such as accept or labels.
func OfMachineEntry(m *fleet.Machine, key, entry string) Location {
	return Location{m.PlaceOfItem(key, entry), join("machines", m.Name, key, entry)}
}

// OfResources locates a value of a machine's resources.
func OfResources(m *fleet.Machine, key string) Location {
	return ofPart(m, &m.Resources.Origins, key, "resources")
}

// OfSSH locates a value of a machine's SSH settings.
func OfSSH(m *fleet.Machine, key string) Location { return ofPart(m, &m.SSH.Origins, key, "ssh") }

// OfConsole locates a value of a machine's console.
func OfConsole(m *fleet.Machine, key string) Location {
	return ofPart(m, &m.Console.Origins, key, "console")
}

// OfFirmware locates a value of a machine's firmware.
func OfFirmware(m *fleet.Machine, key string) Location {
	return ofPart(m, &m.Firmware.Origins, key, "firmware")
}

// OfFirstBoot locates a value of a machine's first boot.
func OfFirstBoot(m *fleet.Machine, key string) Location {
	return ofPart(m, &m.FirstBoot.Origins, key, "first_boot")
}

// OfDisk locates a value of a machine's disk.
func OfDisk(m *fleet.Machine, d *fleet.Disk, key string) Location {
	return ofPart(m, &d.Origins, key, "disks", d.Name)
}

// OfMedium locates a value of a disc in a machine's drive.
func OfMedium(m *fleet.Machine, d *fleet.Medium, key string) Location {
	return ofPart(m, &d.Origins, key, "media", d.Name)
}

// OfNIC locates a value of a machine's network interface.
func OfNIC(m *fleet.Machine, n *fleet.NIC, key string) Location {
	return ofPart(m, &n.Origins, key, "nics", n.Name)
}

// OfPort locates a value of a machine's forwarded port.
func OfPort(m *fleet.Machine, p *fleet.Port, key string) Location {
	return ofPart(m, &p.Origins, key, "ports", p.Name)
}

// OfUser locates a value of a machine's user.
func OfUser(m *fleet.Machine, u *fleet.User, key string) Location {
	return ofPart(m, &u.Origins, key, "users", u.Name)
}

// OfUserItem locates one entry of a user's list, such as keys.
func OfUserItem(m *fleet.Machine, u *fleet.User, key, item string) Location {
	return Location{u.PlaceOfItem(key, item), join("machines", m.Name, "users", u.Name, key)}
}

// OfShare locates a value of a machine's shared folder.
func OfShare(m *fleet.Machine, s *fleet.Share, key string) Location {
	return ofPart(m, &s.Origins, key, "shares", s.Name)
}

// OfFile locates a value of a file that is written at first boot.
func OfFile(m *fleet.Machine, f *fleet.File, key string) Location {
	return ofPart(m, &f.Origins, key, "first_boot", "files", f.Path)
}

// OfScript locates a value of a script.
func OfScript(m *fleet.Machine, s *fleet.Script, key string) Location {
	return ofPart(m, &s.Origins, key, "first_boot", "scripts", s.Name)
}

// OfScriptLine locates a line and column of a script's text, both counted from 1.
func OfScriptLine(m *fleet.Machine, s *fleet.Script, line, column int) Location {
	return Location{s.PlaceAt(line, column), join("machines", m.Name, "first_boot", "scripts", s.Name)}
}

// ofPart locates a value of a part of a machine. A part that is a default has no
// place of its own, so the machine's stands in.
func ofPart(m *fleet.Machine, part *fleet.Origins, key string, path ...string) Location {
	at := locate(part, key, append([]string{"machines", m.Name}, path...)...)
	if !at.Place.IsValid() {
		at.Place = m.PlaceOf(fleet.Itself)
	}
	return at
}

func locate(origins *fleet.Origins, key string, path ...string) Location {
	return Location{origins.PlaceOf(key), join(append(path, key)...)}
}

// join joins the keys of a path; [fleet.Itself] adds nothing.
func join(keys ...string) string {
	if last := len(keys) - 1; keys[last] == fleet.Itself {
		keys = keys[:last]
	}
	return strings.Join(keys, ".")
}
