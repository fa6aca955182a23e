package language

import (
	"net/netip"
	"time"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
)

// machineTable is what a machine can say. Kits and variants say the same.
var machineTable = newTable[fleet.Machine]("a machine", nil, func() []field[fleet.Machine] {
	return []field[fleet.Machine]{
		{
			key: "about", doc: "What the machine is for.",
			example: "Public tide tables",
			value:   text(nil, func(m *fleet.Machine) *string { return &m.About }),
		},
		{
			key: "kits", doc: "The kits to build it from. Later ones override earlier ones.",
			example: "[shore]",
			value:   words("kits", label, func(m *fleet.Machine) *[]string { return &m.Kits }),
		},
		{
			key: "copies",
			doc: "How many machines to create from it: NAME-1, NAME-2 and so on. A given address or host port is " +
				"the first one's; the copies after it count up.",
			def: "1", example: "3",
			value: integer(1, MaxCopies, "a number such as 3", func(m *fleet.Machine) *int { return &m.Copies }),
		},
		{
			key: "labels", doc: "Labels for people and platforms.",
			example: "{team: tides}",
			value:   pairs("labels", labelKey, func(m *fleet.Machine) *[]fleet.Pair { return &m.Labels }),
		},
		{
			key: "image", doc: "The name of its image under `images`.",
			example: "bookworm", required: true,
			value: word(label, func(m *fleet.Machine) *string { return &m.Image }),
		},
		{
			key: "host_name", doc: "The name that it has for itself.",
			def: "the machine's name", example: "almanac",
			value: word(label, func(m *fleet.Machine) *string { return &m.HostName }),
		},
		{
			key: "domain", doc: "The domain that completes the host name.",
			example: "skerry.example",
			value:   word(domain, func(m *fleet.Machine) *string { return &m.Domain }),
		},
		{
			key: "resources", doc: "What it gets of the host.",
			example: "{cpus: 2, memory: 2GiB}",
			value:   object(resourcesTable, func(m *fleet.Machine) *fleet.Resources { return &m.Resources }),
		},
		{
			key: "disks", doc: "Disks by name; `root` has the image.",
			def: "only `root`", example: "{root: {size: 20GiB}}",
			value: named(diskTable, label, func(m *fleet.Machine) *[]*fleet.Disk { return &m.Disks },
				func(n *fleet.Disk) *string { return &n.Name }),
		},
		{
			key: "media", doc: "Images of discs in drives, by name.",
			example: "{install: {file: images/install.iso}}",
			value: named(mediumTable, label, func(m *fleet.Machine) *[]*fleet.Medium { return &m.Media },
				func(n *fleet.Medium) *string { return &n.Name }),
		},
		{
			key: "nics", doc: "Network interfaces. The name is that of the network unless `network` is set.",
			def: "one on the first network", example: "{quay: {address: 10.44.7.20}}",
			value: named(nicTable, label, func(m *fleet.Machine) *[]*fleet.NIC { return &m.NICs },
				func(n *fleet.NIC) *string { return &n.Name }),
		},
		{
			key: "ports", doc: "Ports forwarded from the host to the machine, by name.",
			example: "{ssh: {host: auto, machine: 22}}",
			value: named(portTable, label, func(m *fleet.Machine) *[]*fleet.Port { return &m.Ports },
				func(n *fleet.Port) *string { return &n.Name }),
		},
		{
			key: "public_address", doc: "Ask a cloud for an address that can be reached from the internet.",
			def: "false", example: "true",
			value: boolean(func(m *fleet.Machine) *bool { return &m.PublicAddress }),
		},
		{
			key: "names", doc: "Additional DNS names of the machine.",
			example: "[tides.skerry.example]",
			value:   words("DNS names", domain, func(m *fleet.Machine) *[]string { return &m.Names }),
		},
		{
			key: "firewall", doc: "Names of the firewalls that apply to it.",
			example: "[office]",
			value:   words("firewall names", label, func(m *fleet.Machine) *[]string { return &m.Firewall }),
		},
		{
			key: "users", doc: "Accounts by login. The image's own default account is not created.",
			example: "{mira: {keys: [ops]}}",
			value: named(userTable, userName, func(m *fleet.Machine) *[]*fleet.User { return &m.Users },
				func(n *fleet.User) *string { return &n.Name }),
		},
		{
			key: "ssh", doc: "Ways to log in over SSH other than a user's key.",
			example: "{password_login: false}",
			value:   object(sshTable, func(m *fleet.Machine) *fleet.SSH { return &m.SSH }),
		},
		{
			key: "time", doc: "Time zone and time servers.",
			example: "{zone: Atlantic/Faroe}",
			value:   object(timeTable, func(m *fleet.Machine) *fleet.Time { return &m.Time }),
		},
		{
			key: "language", doc: "Language and character set, as a POSIX locale.",
			def: "the image's", example: "en_DK.UTF-8",
			value: text(locale, func(m *fleet.Machine) *string { return &m.Language }),
		},
		{
			key: "keyboard", doc: "Layout of the keyboard.",
			def: "the image's", example: "dk",
			value: text(layout, func(m *fleet.Machine) *string { return &m.Keyboard }),
		},
		{
			key: "first_boot", doc: "What happens inside the machine on its first boot.",
			example: "{packages: [nginx]}",
			value: object(firstBootTable, func(m *fleet.Machine) *fleet.FirstBoot {
				if m.FirstBoot == nil {
					m.FirstBoot = &fleet.FirstBoot{}
				}
				return m.FirstBoot
			}),
		},
		{
			key: "shares", doc: "Folders of the host to share with the machine, by name.",
			example: "{charts: {host: charts, machine: /srv/charts}}",
			value: named(shareTable, label, func(m *fleet.Machine) *[]*fleet.Share { return &m.Shares },
				func(n *fleet.Share) *string { return &n.Name }),
		},
		{
			key: "console", doc: "Screen and keyboard.",
			example: "{kind: graphical}",
			value:   object(consoleTable, func(m *fleet.Machine) *fleet.Console { return &m.Console }),
		},
		{
			key: "firmware", doc: "The firmware that the machine boots with.",
			example: "{kind: uefi}",
			value:   object(firmwareTable, func(m *fleet.Machine) *fleet.Firmware { return &m.Firmware }),
		},
		{
			key: "clock", doc: "What the hardware clock is set to; Windows expects `local`.",
			def: "utc", example: "local",
			value: choice(func(m *fleet.Machine) *fleet.Clock { return &m.Clock }, fleet.UTC, fleet.Local),
		},
		{
			key: "autostart", doc: "Start with the host.",
			def: "false", example: "true",
			value: boolean(func(m *fleet.Machine) *bool { return &m.Autostart }),
		},
		{
			key: "autostart_delay", doc: "How long to wait after the host has started.",
			def: "0s", example: "30s",
			value: duration(func(m *fleet.Machine) *time.Duration { return &m.AutostartDelay }),
		},
		{
			key: "when_stopped", doc: "What to do with a machine that shuts itself down.",
			def: "keep", example: "remove",
			value: choice(func(m *fleet.Machine) *fleet.WhenStopped { return &m.WhenStopped }, fleet.KeepStopped,
				fleet.RemoveStopped),
		},
		{
			key: "region", doc: "Region of the cloud.",
			def: "the platform's", example: "eu-north-1",
			value: text(oneLine, func(m *fleet.Machine) *string { return &m.Region }),
		},
		{
			key: "zone", doc: "Zone within the region.",
			def: "the platform's", example: "eu-north-1a",
			value: text(oneLine, func(m *fleet.Machine) *string { return &m.Zone }),
		},
		{
			key: "interruptible", doc: "Ask for cheaper capacity that the platform can take back.",
			def: "false", example: "true",
			value: boolean(func(m *fleet.Machine) *bool { return &m.Interruptible }),
		},
		{
			key: "identity", doc: "The platform account that the machine acts as.",
			example: "{account: tides, scopes: [storage-read]}",
			value:   object(identityTable, func(m *fleet.Machine) *fleet.Identity { return &m.Identity }),
		},
		{
			key: "platforms", doc: "Settings of this machine for single platforms, by target name.",
			example: "{heat: {size: small}}",
			value: named(platformTable, label, func(m *fleet.Machine) *[]*fleet.Platform { return &m.Platforms },
				func(n *fleet.Platform) *string { return &n.Name }),
		},
		{
			key: "accept", doc: "Warnings to accept for this machine, each with a reason.",
			example: "{open-to-world: It serves the public}",
			value:   pairs("rules", label, func(m *fleet.Machine) *[]fleet.Pair { return &m.Accept }),
		},
	}
})

var resourcesTable = newTable[fleet.Resources]("resources", nil, func() []field[fleet.Resources] {
	return []field[fleet.Resources]{
		{
			key: "cpus", doc: "Virtual processors.",
			def: "1", example: "2",
			value: integer(1, 1024, "a number such as 2", func(x *fleet.Resources) *int { return &x.CPUs }),
		},
		{
			key: "memory", doc: "Main memory.",
			def: fleet.DefaultMemory.String(), example: "2GiB",
			value: amount(fleet.MiB, func(x *fleet.Resources) *fleet.Bytes { return &x.Memory }),
		},
		{
			key: "priority", doc: "Share of the host's processors if they are busy.",
			def: "normal", example: "high",
			value: choice(func(x *fleet.Resources) *fleet.Priority { return &x.Priority }, fleet.Low, fleet.Normal,
				fleet.High),
		},
	}
})

var timeTable = newTable[fleet.Time]("time", nil, func() []field[fleet.Time] {
	return []field[fleet.Time]{
		{
			key: "zone", doc: "Entry of the IANA time zone database.",
			def: fleet.DefaultTimeZone, example: "Atlantic/Faroe",
			value: text(timeZone, func(x *fleet.Time) *string { return &x.Zone }),
		},
		{
			key: "servers", doc: "NTP servers.",
			def: "the image's", example: "[ntp.skerry.example]",
			value: words("time servers", serverName, func(x *fleet.Time) *[]string { return &x.Servers }),
		},
	}
})

var shareTable = newTable[fleet.Share]("a share", nil, func() []field[fleet.Share] {
	return []field[fleet.Share]{
		{
			key: "host", doc: "Folder on the host; relative to the definition, or absolute.",
			example: "charts", required: true,
			value: hostPath(func(s *fleet.Share) *string { return &s.Host },
				func(s *fleet.Share) *string { return &s.Folder }),
		},
		{
			key: "machine", doc: "Folder inside the machine where it appears.",
			example: "/srv/charts", required: true,
			value: word(mountPoint, func(s *fleet.Share) *string { return &s.Machine }),
		},
		{
			key: "read_only", doc: "Don't let the machine write to it.",
			def: "false", example: "true",
			value: boolean(func(s *fleet.Share) *bool { return &s.ReadOnly }),
		},
	}
})

var consoleTable = newTable("a console", finishConsole, func() []field[fleet.Console] {
	return []field[fleet.Console]{
		{
			key: "kind", doc: "The kind of console.",
			def: "serial", example: "graphical",
			value: choice(func(c *fleet.Console) *fleet.ConsoleKind { return &c.Kind }, fleet.Headless, fleet.Serial,
				fleet.Graphical),
		},
		{
			key: "protocol", doc: "Protocol of a graphical console.",
			def: "vnc", example: "spice",
			value: choice(func(c *fleet.Console) *fleet.ConsoleProtocol { return &c.Protocol }, fleet.VNC, fleet.SPICE),
		},
		{
			key: "listen", doc: "Address of the host to listen on for viewers.",
			def: "127.0.0.1", example: "127.0.0.1",
			value: address("127.0.0.1", func(c *fleet.Console) *netip.Addr { return &c.Listen }),
		},
		{
			key: "port", doc: "Port on the host, or `auto`.",
			def: "auto", example: "5901",
			value: hostPort(func(c *fleet.Console) *int { return &c.Port },
				func(c *fleet.Console) *bool { return &c.Auto }),
		},
		{
			key: "resolution", doc: "Width and height of the screen.",
			def: fleet.DefaultResolution, example: "1920x1080",
			value: text(resolution, func(c *fleet.Console) *string { return &c.Resolution }),
		},
		{
			key: "password", doc: "Name of the secret that viewers enter.",
			example: "chartroom-screen",
			value:   secretName(func(c *fleet.Console) *string { return &c.Password }),
		},
	}
})

func finishConsole(r *Reader, c *fleet.Console) {
	if c.Kind == fleet.Graphical {
		return
	}
	for _, key := range []string{"protocol", "listen", "port", "resolution", "password"} {
		if c.Knows(key) {
			r.AddAt(document.BadValue, c.PlaceOf(key), quoted(key)+" is for graphical consoles, and this one is not",
				"add `kind: graphical`, or remove the line")
		}
	}
}

var firmwareTable = newTable[fleet.Firmware]("firmware", nil, func() []field[fleet.Firmware] {
	return []field[fleet.Firmware]{
		{
			key: "kind", doc: "The kind of firmware.",
			def: "bios", example: "uefi",
			value: choice(func(f *fleet.Firmware) *fleet.FirmwareKind { return &f.Kind }, fleet.BIOS, fleet.UEFI),
		},
		{
			key: "secure_boot", doc: "Boot only signed systems.",
			def: "false", example: "true",
			value: boolean(func(f *fleet.Firmware) *bool { return &f.SecureBoot }),
		},
		{
			key: "tpm", doc: "Give it a trusted platform module, version 2.0.",
			def: "false", example: "true",
			value: boolean(func(f *fleet.Firmware) *bool { return &f.TPM }),
		},
	}
})

var (
	timeZone = matching(`^[A-Za-z]+([/_+-][A-Za-z0-9]+)*$`, "is not the name of a time zone such as Atlantic/Faroe")
	locale   = matching(`^[A-Za-z]{1,8}(_[A-Z]{2})?(\.[A-Za-z0-9-]+)?(@[a-z]+)?$`,
		"is not a locale such as en_DK.UTF-8")
	layout     = matching(`^[a-z]{2,12}(-[a-z0-9]+)?$`, "is not a keyboard layout such as dk")
	resolution = matching(`^[1-9][0-9]{2,3}x[1-9][0-9]{2,3}$`, "must be a width and a height, such as 1920x1080")
)
