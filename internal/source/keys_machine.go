package source

import (
	"net/netip"
	"regexp"
	"time"

	"stavren.example/stavren/fleet"
)

// machineTable is what a machine can say. Kits and variants say the same.
var machineTable = newTable[fleet.Machine]("a machine", nil,
	field[fleet.Machine]{key: "about", doc: "What the machine is for.", example: "Public tide tables",
		kind: text(nil, func(m *fleet.Machine) *string { return &m.About })},
	field[fleet.Machine]{key: "kits", doc: "Kits that it is put together from, the later ones stronger.", example: "[shore]",
		kind: words("kits", label, func(m *fleet.Machine) *[]string { return &m.Kits })},
	field[fleet.Machine]{key: "copies", doc: "How many machines are made of it, NAME-1, NAME-2 and so on. An address or host port that is given is the first one's; the next copies count on.", standard: "1", example: "3",
		kind: whole(1, maxCopies, "a number such as 3", func(m *fleet.Machine) *int { return &m.Copies })},
	field[fleet.Machine]{key: "labels", doc: "Labels for people and platforms.", example: "{team: tides}",
		kind: pairs("labels", labelKey, func(m *fleet.Machine) *[]fleet.Pair { return &m.Labels })},
	field[fleet.Machine]{key: "image", doc: "The image that it boots, by its name under `images`.", example: "bookworm", required: true,
		kind: word(label, func(m *fleet.Machine) *string { return &m.Image })},
	field[fleet.Machine]{key: "host_name", doc: "Its own name for itself.", standard: "the machine's name", example: "almanac",
		kind: word(label, func(m *fleet.Machine) *string { return &m.HostName })},
	field[fleet.Machine]{key: "domain", doc: "The domain that makes the host name a full one.", example: "skerry.example",
		kind: word(domain, func(m *fleet.Machine) *string { return &m.Domain })},
	field[fleet.Machine]{key: "resources", doc: "Its share of the host.", example: "{cpus: 2, memory: 2GiB}",
		kind: object(resourcesTable, func(m *fleet.Machine) *fleet.Resources { return &m.Resources })},
	field[fleet.Machine]{key: "disks", doc: "Disks by name; `root` is the one that the image is on.", standard: "`root` alone", example: "{root: {size: 20GiB}}",
		kind: named(diskTable, names[fleet.Machine, *fleet.Disk]{label, func(m *fleet.Machine) *[]*fleet.Disk { return &m.Disks },
			func(name string) *fleet.Disk { return &fleet.Disk{Name: name} }, func(d *fleet.Disk) string { return d.Name }})},
	field[fleet.Machine]{key: "media", doc: "Images of discs in drives, by name.", example: "{install: {file: images/install.iso}}",
		kind: named(mediumTable, names[fleet.Machine, *fleet.Medium]{label, func(m *fleet.Machine) *[]*fleet.Medium { return &m.Media },
			func(name string) *fleet.Medium { return &fleet.Medium{Name: name} }, func(d *fleet.Medium) string { return d.Name }})},
	field[fleet.Machine]{key: "nics", doc: "Network interfaces; the name is the network's unless `network` says otherwise.", standard: "one on the first network", example: "{quay: {address: 10.44.7.20}}",
		kind: named(nicTable, names[fleet.Machine, *fleet.NIC]{label, func(m *fleet.Machine) *[]*fleet.NIC { return &m.NICs },
			func(name string) *fleet.NIC { return &fleet.NIC{Name: name} }, func(n *fleet.NIC) string { return n.Name }})},
	field[fleet.Machine]{key: "ports", doc: "Ports forwarded from the host to the machine, by name.", example: "{ssh: {host: auto, machine: 22}}",
		kind: named(portTable, names[fleet.Machine, *fleet.Port]{label, func(m *fleet.Machine) *[]*fleet.Port { return &m.Ports },
			func(name string) *fleet.Port { return &fleet.Port{Name: name} }, func(p *fleet.Port) string { return p.Name }})},
	field[fleet.Machine]{key: "public_address", doc: "Ask a cloud for an address that the world can reach.", standard: "false", example: "true",
		kind: truth(func(m *fleet.Machine) *bool { return &m.PublicAddress })},
	field[fleet.Machine]{key: "names", doc: "Further DNS names of the machine.", example: "[tides.skerry.example]",
		kind: words("DNS names", domain, func(m *fleet.Machine) *[]string { return &m.Names })},
	field[fleet.Machine]{key: "firewall", doc: "Names of the firewalls that hold for it.", example: "[office]",
		kind: words("firewall names", label, func(m *fleet.Machine) *[]string { return &m.Firewall })},
	field[fleet.Machine]{key: "users", doc: "Accounts by login. The image's own login is not made.", example: "{mira: {keys: [ops]}}",
		kind: named(userTable, names[fleet.Machine, *fleet.User]{userName, func(m *fleet.Machine) *[]*fleet.User { return &m.Users },
			func(name string) *fleet.User { return &fleet.User{Name: name} }, func(u *fleet.User) string { return u.Name }})},
	field[fleet.Machine]{key: "ssh", doc: "Who may log in over SSH by other means than a user's key.", example: "{password_login: false}",
		kind: object(sshTable, func(m *fleet.Machine) *fleet.SSH { return &m.SSH })},
	field[fleet.Machine]{key: "time", doc: "Time zone and time servers.", example: "{zone: Atlantic/Faroe}",
		kind: object(timeTable, func(m *fleet.Machine) *fleet.Time { return &m.Time })},
	field[fleet.Machine]{key: "language", doc: "Language and character set, as a POSIX locale.", standard: "the image's", example: "en_DK.UTF-8",
		kind: text(locale, func(m *fleet.Machine) *string { return &m.Language })},
	field[fleet.Machine]{key: "keyboard", doc: "Layout of the keyboard.", standard: "the image's", example: "dk",
		kind: text(layout, func(m *fleet.Machine) *string { return &m.Keyboard })},
	field[fleet.Machine]{key: "first_boot", doc: "What happens inside when it starts for the first time.", example: "{packages: [nginx]}",
		kind: object(firstBootTable, func(m *fleet.Machine) *fleet.FirstBoot {
			if m.FirstBoot == nil {
				m.FirstBoot = &fleet.FirstBoot{}
			}
			return m.FirstBoot
		})},
	field[fleet.Machine]{key: "shares", doc: "Folders of the host that appear inside, by name.", example: "{charts: {host: charts, machine: /srv/charts}}",
		kind: named(shareTable, names[fleet.Machine, *fleet.Share]{label, func(m *fleet.Machine) *[]*fleet.Share { return &m.Shares },
			func(name string) *fleet.Share { return &fleet.Share{Name: name} }, func(s *fleet.Share) string { return s.Name }})},
	field[fleet.Machine]{key: "console", doc: "Screen and keyboard.", example: "{kind: graphical}",
		kind: object(consoleTable, func(m *fleet.Machine) *fleet.Console { return &m.Console })},
	field[fleet.Machine]{key: "firmware", doc: "What the machine starts with.", example: "{kind: uefi}",
		kind: object(firmwareTable, func(m *fleet.Machine) *fleet.Firmware { return &m.Firmware })},
	field[fleet.Machine]{key: "clock", doc: "What the hardware clock is set to; Windows expects `local`.", standard: "utc", example: "local",
		kind: choice(func(m *fleet.Machine) *fleet.Clock { return &m.Clock }, fleet.UTC, fleet.Local)},
	field[fleet.Machine]{key: "autostart", doc: "Start with the host.", standard: "false", example: "true",
		kind: truth(func(m *fleet.Machine) *bool { return &m.Autostart })},
	field[fleet.Machine]{key: "autostart_delay", doc: "How long after the host it starts.", standard: "0s", example: "30s",
		kind: duration(func(m *fleet.Machine) *time.Duration { return &m.AutostartDelay })},
	field[fleet.Machine]{key: "when_stopped", doc: "What becomes of a machine that stops itself.", standard: "keep", example: "remove",
		kind: choice(func(m *fleet.Machine) *fleet.WhenStopped { return &m.WhenStopped }, fleet.KeepStopped, fleet.RemoveStopped)},
	field[fleet.Machine]{key: "region", doc: "Region of the cloud.", standard: "the platform's", example: "eu-north-1",
		kind: text(oneLine, func(m *fleet.Machine) *string { return &m.Region })},
	field[fleet.Machine]{key: "zone", doc: "Zone within the region.", standard: "the platform's", example: "eu-north-1a",
		kind: text(oneLine, func(m *fleet.Machine) *string { return &m.Zone })},
	field[fleet.Machine]{key: "interruptible", doc: "Ask for cheaper capacity that may be taken away.", standard: "false", example: "true",
		kind: truth(func(m *fleet.Machine) *bool { return &m.Interruptible })},
	field[fleet.Machine]{key: "identity", doc: "The platform account that the machine acts as.", example: "{account: tides, scopes: [storage-read]}",
		kind: object(identityTable, func(m *fleet.Machine) *fleet.Identity { return &m.Identity })},
	field[fleet.Machine]{key: "platforms", doc: "What only one platform needs to know of this machine, by target name.", example: "{heat: {size: small}}",
		kind: named(platformTable, names[fleet.Machine, *fleet.Platform]{label, func(m *fleet.Machine) *[]*fleet.Platform { return &m.Platforms }, newPlatform, platformName})},
	field[fleet.Machine]{key: "accept", doc: "Rules that this machine breaks on purpose, and why.", example: "{open-to-world: It serves the public}",
		kind: pairs("rules", label, func(m *fleet.Machine) *[]fleet.Pair { return &m.Accept })},
)

var resourcesTable = newTable[fleet.Resources]("resources", nil,
	field[fleet.Resources]{key: "cpus", doc: "Virtual processors.", standard: "1", example: "2",
		kind: whole(1, 1024, "a number such as 2", func(x *fleet.Resources) *int { return &x.CPUs })},
	field[fleet.Resources]{key: "memory", doc: "Main memory.", standard: fleet.DefaultMemory.String(), example: "2GiB",
		kind: amount(fleet.MiB, func(x *fleet.Resources) *fleet.Bytes { return &x.Memory })},
	field[fleet.Resources]{key: "priority", doc: "Share of the host's processors where they are scarce.", standard: "normal", example: "high",
		kind: choice(func(x *fleet.Resources) *fleet.Priority { return &x.Priority }, fleet.Low, fleet.Normal, fleet.High)},
)

var diskTable = newTable("a disk", finishDisk,
	field[fleet.Disk]{key: "size", doc: "Its size.", standard: fleet.DefaultRootSize.String() + " for `root`; other disks have to say it", example: "20GiB",
		kind: amount(fleet.MiB, func(d *fleet.Disk) *fleet.Bytes { return &d.Size })},
	field[fleet.Disk]{key: "format", doc: "`thin` disks grow as they fill, `full` ones take all their room at once.", standard: "thin", example: "full",
		kind: choice(func(d *fleet.Disk) *fleet.DiskFormat { return &d.Format }, fleet.Thin, fleet.Full)},
	field[fleet.Disk]{key: "bus", doc: "What it is attached to.", standard: "virtio", example: "scsi",
		kind: choice(func(d *fleet.Disk) *fleet.DiskBus { return &d.Bus }, fleet.VirtIO, fleet.SCSI, fleet.SATA, fleet.NVMe)},
	field[fleet.Disk]{key: "speed", doc: "Class of storage.", standard: "standard", example: "fast",
		kind: choice(func(d *fleet.Disk) *fleet.DiskSpeed { return &d.Speed }, fleet.Standard, fleet.Fast)},
	field[fleet.Disk]{key: "filesystem", doc: "What a data disk is formatted with, once; a disk that holds data is never formatted again.", example: "ext4",
		kind: choice(func(d *fleet.Disk) *string { return &d.FileSystem }, "ext4", "xfs", "btrfs", "vfat")},
	field[fleet.Disk]{key: "label", doc: "Label of the file system, by which it is mounted.", standard: "the disk's name", example: "pages",
		kind: text(matching(regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*$`), "has to be letters, digits and . _ - only"), func(d *fleet.Disk) *string { return &d.Label })},
	field[fleet.Disk]{key: "mount", doc: "Folder inside the machine where the data disk appears.", example: "/srv/almanac",
		kind: word(insidePath, func(d *fleet.Disk) *string { return &d.Mount })},
	field[fleet.Disk]{key: "options", doc: "Mount options beside the defaults.", example: "[noatime]",
		kind: words("mount options", mountOption, func(d *fleet.Disk) *[]string { return &d.Options })},
	field[fleet.Disk]{key: "keep", doc: "The disk outlives the machine.", standard: "false", example: "true",
		kind: truth(func(d *fleet.Disk) *bool { return &d.Keep })},
	field[fleet.Disk]{key: "start", doc: "A disk image whose content a data disk starts with; relative to the definition, or absolute.", example: "images/readings.qcow2",
		kind: hostPath(func(d *fleet.Disk) *string { return &d.Start }, func(d *fleet.Disk) *string { return &d.Folder })},
)

func finishDisk(r *reader, disk *fleet.Disk) {
	place := disk.PlaceOf(fleet.Itself)
	if disk.IsRoot() && (disk.FileSystem != "" || disk.Mount != "" || disk.Label != "" || disk.Start != "") {
		r.faultAt(ruleBadValue, place, "the root disk comes with the image's own file system", "remove filesystem, label, mount and start from it; put them on a data disk")
	}
	if disk.Mount != "" && disk.FileSystem == "" {
		r.faultAt(ruleMissingKey, place, "the disk "+quoted(disk.Name)+" is mounted but has no file system", "add `filesystem: ext4`")
	}
	if !disk.IsRoot() && disk.Size == 0 {
		r.faultAt(ruleMissingKey, place, "the data disk "+quoted(disk.Name)+" has no size", "add `size: 10GiB`")
	}
}

var mediumTable = newTable[fleet.Medium]("a medium", nil,
	field[fleet.Medium]{key: "file", doc: "The disc's image; relative to the definition, or absolute.", example: "images/install.iso", required: true,
		kind: hostPath(func(d *fleet.Medium) *string { return &d.File }, func(d *fleet.Medium) *string { return &d.Folder })},
	field[fleet.Medium]{key: "boot_first", doc: "Start from the disc rather than from the disk.", standard: "false", example: "true",
		kind: truth(func(d *fleet.Medium) *bool { return &d.BootFirst })},
	field[fleet.Medium]{key: "eject", doc: "Take the disc out after the first boot.", standard: "false", example: "true",
		kind: truth(func(d *fleet.Medium) *bool { return &d.Eject })},
)

var nicTable = newTable[fleet.NIC]("a network interface", nil,
	field[fleet.NIC]{key: "network", doc: "The network that it is on.", standard: "the interface's name", example: "quay",
		kind: word(label, func(n *fleet.NIC) *string { return &n.Network })},
	field[fleet.NIC]{key: "model", doc: "What it looks like to the machine.", standard: "virtio", example: "e1000",
		kind: choice(func(n *fleet.NIC) *fleet.NICModel { return &n.Model }, fleet.VirtIONIC, fleet.E1000)},
	field[fleet.NIC]{key: "address", doc: "Its fixed address.", standard: "from the network by DHCP", example: "10.44.7.20",
		kind: address("10.44.7.20", func(n *fleet.NIC) *netip.Addr { return &n.Address })},
	field[fleet.NIC]{key: "hardware_address", doc: "Its hardware address.", standard: "derived from the names", example: "\"02:00:5e:10:00:01\"",
		kind: text(hardwareAddress, func(n *fleet.NIC) *string { return &n.HardwareAddress })},
	field[fleet.NIC]{key: "also", doc: "Further addresses with their prefix length.", example: "[10.44.8.20/24]",
		kind: prefixes(false, func(n *fleet.NIC) *[]netip.Prefix { return &n.Also })},
	field[fleet.NIC]{key: "routes", doc: "Ways to other networks.", example: "[{to: 10.45.0.0/16, via: 10.44.7.2}]",
		kind: listed(routeTable, func(n *fleet.NIC) *[]*fleet.Route { return &n.Routes })},
	field[fleet.NIC]{key: "primary", doc: "This interface leads out.", standard: "true for the first", example: "true",
		kind: truth(func(n *fleet.NIC) *bool { return &n.Primary })},
)

var hardwareAddress = matching(regexp.MustCompile(`^[0-9a-f][02468ace](:[0-9a-f]{2}){5}$`),
	"has to be six pairs of lower-case hexadecimal digits with colons, the second digit even, such as 02:00:5e:10:00:01")

var routeTable = newTable[fleet.Route]("a route", nil,
	field[fleet.Route]{key: "to", doc: "The network that it leads to.", example: "10.45.0.0/16", required: true,
		kind: subnet(func(x *fleet.Route) *netip.Prefix { return &x.To })},
	field[fleet.Route]{key: "via", doc: "The neighbour that it leads through.", example: "10.44.7.2", required: true,
		kind: address("10.44.7.2", func(x *fleet.Route) *netip.Addr { return &x.Via })},
)

var portTable = newTable[fleet.Port]("a port", nil,
	field[fleet.Port]{key: "host", doc: "Port on the host, or `auto` for one that is chosen and stays.", standard: "auto", example: "8080",
		kind: hostPort(func(p *fleet.Port) *int { return &p.Host }, func(p *fleet.Port) *bool { return &p.Auto })},
	field[fleet.Port]{key: "machine", doc: "Port inside the machine.", example: "80", required: true,
		kind: whole(1, 65535, "a number such as 80", func(p *fleet.Port) *int { return &p.Machine })},
	field[fleet.Port]{key: "protocol", doc: "Transport protocol.", standard: "tcp", example: "udp",
		kind: choice(func(p *fleet.Port) *fleet.Protocol { return &p.Protocol }, fleet.TCP, fleet.UDP)},
	field[fleet.Port]{key: "listen", doc: "Address of the host that takes connections; 0.0.0.0 takes them from the whole network.", standard: "127.0.0.1", example: "127.0.0.1",
		kind: address("127.0.0.1", func(p *fleet.Port) *netip.Addr { return &p.Listen })},
)

// hostPort is a port of the host, or the word auto.
func hostPort[T any](at func(*T) *int, auto func(*T) *bool) kind[T] {
	return kind[T]{
		name: "port number or auto", schema: func() schema {
			return schema{"anyOf": []any{schema{"const": "auto"}, schema{"type": "integer", "minimum": 1, "maximum": 65535}}}
		},
		clear: func(from *T) { *at(from), *auto(from) = 0, false },
		print: func(of *T) string {
			switch {
			case *at(of) == 0:
				return ""
			case *auto(of):
				return itoa(*at(of)) + ", chosen"
			}
			return itoa(*at(of))
		},
		read: func(r *reader, l layer, into *T) bool {
			if l.node.Value == "auto" {
				*at(into), *auto(into) = 0, true
				return true
			}
			number, ok := r.whole(l, 1, 65535, "a number such as 8080, or auto")
			if ok {
				*at(into), *auto(into) = number, false
			}
			return ok
		},
	}
}

var shareTable = newTable[fleet.Share]("a share", nil,
	field[fleet.Share]{key: "host", doc: "Folder on the host; relative to the definition, or absolute.", example: "charts", required: true,
		kind: hostPath(func(s *fleet.Share) *string { return &s.Host }, func(s *fleet.Share) *string { return &s.Folder })},
	field[fleet.Share]{key: "machine", doc: "Where it appears inside the machine.", example: "/srv/charts", required: true,
		kind: word(insidePath, func(s *fleet.Share) *string { return &s.Machine })},
	field[fleet.Share]{key: "read_only", doc: "The machine may not write to it.", standard: "false", example: "true",
		kind: truth(func(s *fleet.Share) *bool { return &s.ReadOnly })},
)

var consoleTable = newTable("a console", finishConsole,
	field[fleet.Console]{key: "kind", doc: "How the console is reached.", standard: "serial", example: "graphical",
		kind: choice(func(c *fleet.Console) *fleet.ConsoleKind { return &c.Kind }, fleet.Headless, fleet.Serial, fleet.Graphical)},
	field[fleet.Console]{key: "protocol", doc: "What carries a graphical console.", standard: "vnc", example: "spice",
		kind: choice(func(c *fleet.Console) *fleet.ConsoleProtocol { return &c.Protocol }, fleet.VNC, fleet.SPICE)},
	field[fleet.Console]{key: "listen", doc: "Address of the host that takes viewers.", standard: "127.0.0.1", example: "127.0.0.1",
		kind: address("127.0.0.1", func(c *fleet.Console) *netip.Addr { return &c.Listen })},
	field[fleet.Console]{key: "port", doc: "Port on the host, or `auto`.", standard: "auto", example: "5901",
		kind: hostPort(func(c *fleet.Console) *int { return &c.Port }, func(c *fleet.Console) *bool { return &c.Auto })},
	field[fleet.Console]{key: "resolution", doc: "Width and height of the screen.", standard: fleet.DefaultResolution, example: "1920x1080",
		kind: text(matching(regexp.MustCompile(`^[1-9][0-9]{2,3}x[1-9][0-9]{2,3}$`), "has to be width and height like 1920x1080"), func(c *fleet.Console) *string { return &c.Resolution })},
	field[fleet.Console]{key: "password", doc: "Name of the secret that viewers have to give.", example: "chartroom-screen",
		kind: secretName(func(c *fleet.Console) *string { return &c.Password })},
)

func finishConsole(r *reader, c *fleet.Console) {
	if c.Kind == fleet.Graphical {
		return
	}
	for _, key := range []string{"protocol", "listen", "port", "resolution", "password"} {
		if c.Knows(key) {
			r.faultAt(ruleBadValue, c.PlaceOf(key), quoted(key)+" is for graphical consoles, and this one is not", "add `kind: graphical`, or remove the line")
		}
	}
}

var firmwareTable = newTable[fleet.Firmware]("firmware", nil,
	field[fleet.Firmware]{key: "kind", doc: "What starts the boot loader.", standard: "bios", example: "uefi",
		kind: choice(func(f *fleet.Firmware) *fleet.FirmwareKind { return &f.Kind }, fleet.BIOS, fleet.UEFI)},
	field[fleet.Firmware]{key: "secure_boot", doc: "Start signed systems only.", standard: "false", example: "true",
		kind: truth(func(f *fleet.Firmware) *bool { return &f.SecureBoot })},
	field[fleet.Firmware]{key: "tpm", doc: "Give it a trusted platform module, version 2.0.", standard: "false", example: "true",
		kind: truth(func(f *fleet.Firmware) *bool { return &f.TPM })},
)

var identityTable = newTable[fleet.Identity]("an identity", nil,
	field[fleet.Identity]{key: "account", doc: "The account's name on the platform.", example: "tides",
		kind: text(oneLine, func(i *fleet.Identity) *string { return &i.Account })},
	field[fleet.Identity]{key: "scopes", doc: "What it may do, in the platform's own words.", example: "[storage-read]",
		kind: words("scopes", shortText, func(i *fleet.Identity) *[]string { return &i.Scopes })},
)
