package source

import (
	"io/fs"
	"net/netip"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
)

// machineTable is what a machine can say.
var machineTable = newTable[fleet.Machine]("a machine", nil,
	field[fleet.Machine]{key: "about", doc: "One line on what the machine is for.", example: "Public tide tables",
		kind: text(nil, func(m *fleet.Machine) *string { return &m.About })},
	field[fleet.Machine]{key: "image", doc: "The image that it boots, by its name under `images`.", example: "bookworm", required: true,
		kind: word(label, func(m *fleet.Machine) *string { return &m.Image })},
	field[fleet.Machine]{key: "host_name", doc: "Its own name for itself.", standard: "the machine's name", example: "almanac",
		kind: word(label, func(m *fleet.Machine) *string { return &m.HostName })},
	field[fleet.Machine]{key: "domain", doc: "The domain that makes the host name a full one.", example: "skerry.example",
		kind: word(domain, func(m *fleet.Machine) *string { return &m.Domain })},
	field[fleet.Machine]{key: "resources", doc: "Its share of the host.", example: "{cpus: 2, memory: 2GiB}",
		kind: object(resourcesTable, func(m *fleet.Machine) *fleet.Resources { return &m.Resources })},
	field[fleet.Machine]{key: "disks", doc: "Disks by name; `root` is the one that the image is on.", standard: "`root` alone", example: "{root: {size: 20GiB}}",
		kind: named(diskTable, label,
			func(m *fleet.Machine) []*fleet.Disk { return m.Disks }, func(x *fleet.Disk) string { return x.Name }, func(m *fleet.Machine, name string) *fleet.Disk {
				disk := &fleet.Disk{Name: name}
				m.Disks = append(m.Disks, disk)
				return disk
			})},
	field[fleet.Machine]{key: "nics", doc: "Network interfaces; the name is the network's unless `network` says otherwise.", standard: "one on the first network", example: "{quay: {address: 10.44.7.20}}",
		kind: named(nicTable, label,
			func(m *fleet.Machine) []*fleet.NIC { return m.NICs }, func(x *fleet.NIC) string { return x.Name }, func(m *fleet.Machine, name string) *fleet.NIC {
				nic := &fleet.NIC{Name: name}
				m.NICs = append(m.NICs, nic)
				return nic
			})},
	field[fleet.Machine]{key: "ports", doc: "Ports forwarded from the host to the machine, by name.", example: "{ssh: {host: auto, machine: 22}}",
		kind: named(portTable, label,
			func(m *fleet.Machine) []*fleet.Port { return m.Ports }, func(x *fleet.Port) string { return x.Name }, func(m *fleet.Machine, name string) *fleet.Port {
				port := &fleet.Port{Name: name}
				m.Ports = append(m.Ports, port)
				return port
			})},
	field[fleet.Machine]{key: "users", doc: "Accounts by login. The image's own login is not made.", example: "{mira: {keys: [ops]}}",
		kind: named(userTable, userName,
			func(m *fleet.Machine) []*fleet.User { return m.Users }, func(x *fleet.User) string { return x.Name }, func(m *fleet.Machine, name string) *fleet.User {
				user := &fleet.User{Name: name}
				m.Users = append(m.Users, user)
				return user
			})},
	field[fleet.Machine]{key: "first_boot", doc: "What happens inside when it starts for the first time.", example: "{packages: [nginx]}",
		kind: object(firstBootTable, func(m *fleet.Machine) *fleet.FirstBoot {
			if m.FirstBoot == nil {
				m.FirstBoot = &fleet.FirstBoot{}
			}
			return m.FirstBoot
		})},
)

var resourcesTable = newTable[fleet.Resources]("resources", nil,
	field[fleet.Resources]{key: "cpus", doc: "Virtual processors.", standard: "1", example: "2",
		kind: whole(1, 1024, "a number such as 2", func(x *fleet.Resources) *int { return &x.CPUs })},
	field[fleet.Resources]{key: "memory", doc: "Main memory.", standard: fleet.DefaultMemory.String(), example: "2GiB",
		kind: amount(fleet.MiB, func(x *fleet.Resources) *fleet.Bytes { return &x.Memory })},
)

var diskTable = newTable("a disk", finishDisk,
	field[fleet.Disk]{key: "size", doc: "Its size.", standard: fleet.DefaultRootSize.String() + " for `root`; other disks have to say it", example: "20GiB",
		kind: amount(fleet.MiB, func(d *fleet.Disk) *fleet.Bytes { return &d.Size })},
	field[fleet.Disk]{key: "filesystem", doc: "What a data disk is formatted with, once; a disk that holds data is never formatted again.", example: "ext4",
		kind: choice(func(d *fleet.Disk) *string { return &d.FileSystem }, "ext4", "xfs", "btrfs", "vfat")},
	field[fleet.Disk]{key: "label", doc: "Label of the file system, by which it is mounted.", standard: "the disk's name", example: "pages",
		kind: text(fileSystemLabel, func(d *fleet.Disk) *string { return &d.Label })},
	field[fleet.Disk]{key: "mount", doc: "Folder inside the machine where the data disk appears.", example: "/srv/almanac",
		kind: word(insidePath, func(d *fleet.Disk) *string { return &d.Mount })},
	field[fleet.Disk]{key: "keep", doc: "The disk outlives the machine.", standard: "false", example: "true",
		kind: truth(func(d *fleet.Disk) *bool { return &d.Keep })},
)

var labelCharacters = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*$`)

func fileSystemLabel(text string) string {
	if labelCharacters.MatchString(text) {
		return ""
	}
	return "has to be letters, digits and . _ - only"
}

func finishDisk(r *reader, disk *fleet.Disk, place layer) {
	key := place
	if key.key != nil {
		key.node = key.key
	}
	if disk.IsRoot() && (disk.FileSystem != "" || disk.Mount != "" || disk.Label != "") {
		r.fault(ruleBadValue, key, "the root disk comes with the image's own file system", "remove filesystem, label and mount from it; put them on a data disk")
	}
	if disk.Mount != "" && disk.FileSystem == "" && !r.faultBelow() {
		r.fault(ruleMissingKey, key, "the disk "+quoted(disk.Name)+" is mounted but has no file system", "add `filesystem: ext4`")
	}
	if !disk.IsRoot() && disk.Size == 0 && !r.faultBelow() {
		r.fault(ruleMissingKey, key, "the data disk "+quoted(disk.Name)+" has no size", "add `size: 10GiB`")
	}
}

var nicTable = newTable[fleet.NIC]("a network interface", nil,
	field[fleet.NIC]{key: "network", doc: "The network that it is on.", standard: "the interface's name", example: "quay",
		kind: word(label, func(n *fleet.NIC) *string { return &n.Network })},
	field[fleet.NIC]{key: "address", doc: "Its fixed address.", standard: "from the network by DHCP", example: "10.44.7.20",
		kind: address("10.44.7.20", func(n *fleet.NIC) *netip.Addr { return &n.Address })},
	field[fleet.NIC]{key: "hardware_address", doc: "Its hardware address.", standard: "derived from the names", example: "\"02:00:5e:10:00:01\"",
		kind: text(hardwareAddress, func(n *fleet.NIC) *string { return &n.HardwareAddress })},
)

var hardwarePattern = regexp.MustCompile(`^[0-9a-f][02468ace](:[0-9a-f]{2}){5}$`)

func hardwareAddress(text string) string {
	if hardwarePattern.MatchString(text) {
		return ""
	}
	return "has to be six pairs of lower-case hexadecimal digits with colons, the second digit even, such as 02:00:5e:10:00:01"
}

var portTable = newTable[fleet.Port]("a port", nil,
	field[fleet.Port]{key: "host", doc: "Port on the host, or `auto` for one that is chosen and stays.", standard: "auto", example: "8080", kind: hostPort()},
	field[fleet.Port]{key: "machine", doc: "Port inside the machine.", example: "80", required: true,
		kind: whole(1, 65535, "a number such as 80", func(p *fleet.Port) *int { return &p.Machine })},
	field[fleet.Port]{key: "protocol", doc: "Transport protocol.", standard: "tcp", example: "udp",
		kind: choice(func(p *fleet.Port) *fleet.Protocol { return &p.Protocol }, fleet.TCP, fleet.UDP)},
	field[fleet.Port]{key: "listen", doc: "Address of the host that takes connections; 0.0.0.0 takes them from the whole network.", standard: "127.0.0.1", example: "127.0.0.1",
		kind: address("127.0.0.1", func(p *fleet.Port) *netip.Addr { return &p.Listen })},
)

func hostPort() kind[fleet.Port] {
	return kind[fleet.Port]{name: "port number or auto", print: func(of *fleet.Port) string {
		if of.Auto {
			return strconv.Itoa(of.Host) + ", chosen"
		}
		return strconv.Itoa(of.Host)
	}, read: func(r *reader, v view, into *fleet.Port) bool {
		if top := v.top(); top.node.Kind == yaml.ScalarNode && top.node.Value == "auto" {
			into.Auto = true
			return true
		}
		number, ok := r.whole(v, 1, 65535, "a number such as 8080, or auto")
		into.Host = number
		return ok
	}}
}

var userTable = newTable[fleet.User]("a user", nil,
	field[fleet.User]{key: "full_name", doc: "The person's name.", example: "Mira Holm",
		kind: text(accountWord, func(u *fleet.User) *string { return &u.FullName })},
	field[fleet.User]{key: "groups", doc: "Further groups.", example: "[adm]",
		kind: words("groups", userName, func(u *fleet.User) *[]string { return &u.Groups })},
	field[fleet.User]{key: "admin", doc: "May act as the administrator.", standard: "no", example: "without-password",
		kind: choice(func(u *fleet.User) *fleet.AdminRights { return &u.Admin }, fleet.AdminWithPassword, fleet.AdminWithoutPassword, fleet.NoAdmin)},
	field[fleet.User]{key: "shell", doc: "Login shell.", standard: "the system's usual one", example: "/bin/bash",
		kind: word(insidePath, func(u *fleet.User) *string { return &u.Shell })},
	field[fleet.User]{key: "keys", doc: "Names of the keys that may log in.", example: "[ops]",
		kind: words("key names", label, func(u *fleet.User) *[]string { return &u.Keys })},
)

var firstBootTable = newTable[fleet.FirstBoot]("first_boot", nil,
	field[fleet.FirstBoot]{key: "refresh", doc: "Fetch the package index first.", standard: "true if packages or an upgrade are asked for", example: "true",
		kind: truth(func(b *fleet.FirstBoot) *bool { return &b.Refresh })},
	field[fleet.FirstBoot]{key: "upgrade", doc: "Bring every installed package up to date.", standard: "false", example: "true",
		kind: truth(func(b *fleet.FirstBoot) *bool { return &b.Upgrade })},
	field[fleet.FirstBoot]{key: "packages", doc: "Packages to install, by their names in the system's package manager.", example: "[nginx]",
		kind: words("packages", packageName, func(b *fleet.FirstBoot) *[]string { return &b.Packages })},
	field[fleet.FirstBoot]{key: "files", doc: "Files to write, by their path inside the machine.", example: "{/etc/motd: {text: \"Tide office\\n\"}}",
		kind: named(fileTable, insidePath,
			func(b *fleet.FirstBoot) []*fleet.File { return b.Files }, func(x *fleet.File) string { return x.Path }, func(b *fleet.FirstBoot, name string) *fleet.File {
				file := &fleet.File{Path: name}
				b.Files = append(b.Files, file)
				return file
			})},
	field[fleet.FirstBoot]{key: "scripts", doc: "Scripts to run, by name, in this order.", example: "{tables: {text: \"systemctl enable --now nginx\\n\"}}",
		kind: named(scriptTable, label,
			func(b *fleet.FirstBoot) []*fleet.Script { return b.Scripts }, func(x *fleet.Script) string { return x.Name }, func(b *fleet.FirstBoot, name string) *fleet.Script {
				script := &fleet.Script{Name: name}
				b.Scripts = append(b.Scripts, script)
				return script
			})},
)

var fileTable = newTable("a file", finishContent(func(f *fleet.File) *fleet.Content { return &f.Content }),
	append(contentFields(false, "\"Tide office\\n\"", "site/index.html", func(f *fleet.File) *fleet.Content { return &f.Content }),
		field[fleet.File]{key: "mode", doc: "Permissions, in octal digits.", standard: "0644", example: "\"0600\"", kind: fileMode()},
		field[fleet.File]{key: "owner", doc: "Owner and group.", standard: fleet.DefaultFileOwner, example: "root:adm",
			kind: text(fileOwner, func(f *fleet.File) *string { return &f.Owner })},
	)...)

func fileMode() kind[fleet.File] {
	return kind[fleet.File]{name: "octal digits", print: func(of *fleet.File) string { return fleet.FormatMode(of.Mode) }, read: func(r *reader, v view, into *fleet.File) bool {
		top, ok := r.scalar(v, "octal digits", "\"0644\"")
		if !ok {
			return false
		}
		mode, err := fleet.ParseMode(top.node.Value)
		if err != nil || mode == fs.FileMode(0) {
			r.fault(ruleBadValue, top, r.here()+" is "+quoted(top.node.Value)+", which is not three or four octal digits", "write it like \"0644\"")
			return false
		}
		into.Mode = mode
		return true
	}}
}

func fileOwner(text string) string {
	user, group, both := strings.Cut(text, ":")
	if !both || userName(user) != "" || userName(group) != "" {
		return "has to be a user and a group with a colon between, such as root:adm"
	}
	return ""
}

var scriptTable = newTable("a script", finishContent(func(s *fleet.Script) *fleet.Content { return &s.Content }),
	append(contentFields(false, "\"systemctl enable --now nginx\\n\"", "scripts/tables.sh", func(s *fleet.Script) *fleet.Content { return &s.Content }),
		field[fleet.Script]{key: "when", doc: "How often it runs.", standard: "once", example: "every-boot",
			kind: choice(func(s *fleet.Script) *fleet.When { return &s.When }, fleet.Once, fleet.EveryBoot)},
	)...)
