package source

import (
	"net/netip"
	"regexp"
	"strings"
	"time"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

// Version is the version of the language that this package reads.
const Version = "1"

// fleetTable is the top of a definition. Its order is the order of reading:
// machines come after what they are put together from.
var fleetTable = newTable[fleet.Fleet]("a definition", nil,
	field[fleet.Fleet]{key: "stavren", doc: "Version of the language.", example: "1", required: true, kind: version()},
	field[fleet.Fleet]{key: "fleet", doc: "Name of everything in this file.", example: "tide-office", required: true,
		kind: word(label, func(f *fleet.Fleet) *string { return &f.Name })},
	field[fleet.Fleet]{key: "about", doc: "What the fleet is for.", example: "Tide gauges and almanac",
		kind: text(nil, func(f *fleet.Fleet) *string { return &f.About })},
	field[fleet.Fleet]{key: "use", doc: "Other definitions whose systems, images, networks, keys, secrets, firewalls and kits hold here too.", example: "[common.stavren.yaml]", kind: use()},
	field[fleet.Fleet]{key: "systems", doc: "Operating systems that the built-in list lacks, by name.", example: "{skerry-linux: {family: debian}}",
		kind: named(systemTable, names[fleet.Fleet, *fleet.System]{label, func(f *fleet.Fleet) *[]*fleet.System { return &f.Systems },
			func(name string) *fleet.System { return &fleet.System{Name: name} }, func(s *fleet.System) string { return s.Name }})},
	field[fleet.Fleet]{key: "images", doc: "Bootable images by name.", example: "{bookworm: {os: debian-12, file: images/debian-12.qcow2}}",
		kind: named(imageTable, names[fleet.Fleet, *fleet.Image]{label, func(f *fleet.Fleet) *[]*fleet.Image { return &f.Images },
			func(name string) *fleet.Image { return &fleet.Image{Name: name} }, func(i *fleet.Image) string { return i.Name }})},
	field[fleet.Fleet]{key: "networks", doc: "Networks by name.", standard: "one nat network, `inner`", example: "{quay: {mode: nat, subnet: 10.44.7.0/24}}",
		kind: named(networkTable, names[fleet.Fleet, *fleet.Network]{label, func(f *fleet.Fleet) *[]*fleet.Network { return &f.Networks },
			func(name string) *fleet.Network { return &fleet.Network{Name: name} }, func(n *fleet.Network) string { return n.Name }})},
	field[fleet.Fleet]{key: "keys", doc: "Public SSH keys by name.", example: "{ops: {file: keys/ops.pub}}",
		kind: named(keyTable, names[fleet.Fleet, *fleet.Key]{label, func(f *fleet.Fleet) *[]*fleet.Key { return &f.Keys },
			func(name string) *fleet.Key { return &fleet.Key{Name: name} }, func(k *fleet.Key) string { return k.Name }})},
	field[fleet.Fleet]{key: "secrets", doc: "Secrets by name: where they are read from, never what they are.", example: "{database: {env: TIDE_DATABASE_PASSWORD}}",
		kind: named(secretTable, names[fleet.Fleet, *fleet.Secret]{label, func(f *fleet.Fleet) *[]*fleet.Secret { return &f.Secrets },
			func(name string) *fleet.Secret { return &fleet.Secret{Name: name} }, func(s *fleet.Secret) string { return s.Name }})},
	field[fleet.Fleet]{key: "firewalls", doc: "Sets of rules on who may come in, by name.", example: "{office: {allow: [{port: 22/tcp, from: 198.51.100.0/24}]}}",
		kind: named(firewallTable, names[fleet.Fleet, *fleet.Firewall]{label, func(f *fleet.Fleet) *[]*fleet.Firewall { return &f.Firewalls },
			func(name string) *fleet.Firewall { return &fleet.Firewall{Name: name} }, func(w *fleet.Firewall) string { return w.Name }})},
	field[fleet.Fleet]{key: "kits", doc: "Partial machines that machines are put together from. A kit says what a machine can, and may be put together from kits.", example: "{shore: {image: bookworm}}", kind: kits()},
	field[fleet.Fleet]{key: "machines", doc: "Machines by name; a name becomes the host name.", example: "{almanac: {image: bookworm}}", kind: machines()},
	field[fleet.Fleet]{key: "variants", doc: "Changes to machines under a name, chosen with `--variant`.", example: "{rehearsal: {machines: {almanac: {public_address: false}}}}", kind: variants()},
	field[fleet.Fleet]{key: "platforms", doc: "What only one platform needs to know, by target name.", example: "{heat: {network: quay-net}}",
		kind: named(platformTable, names[fleet.Fleet, *fleet.Platform]{label, func(f *fleet.Fleet) *[]*fleet.Platform { return &f.Platforms }, newPlatform, platformName})},
	field[fleet.Fleet]{key: "limits", doc: "The most that the host or a platform gives, by target name or `host`.", example: "{host: {cpus: 8, memory: 16GiB, reserve: 50%}}",
		kind: named(limitTable, names[fleet.Fleet, *fleet.Limit]{label, func(f *fleet.Fleet) *[]*fleet.Limit { return &f.Limits },
			func(name string) *fleet.Limit { return &fleet.Limit{Name: name} }, func(l *fleet.Limit) string { return l.Name }})},
	field[fleet.Fleet]{key: "accept", doc: "Rules that are broken on purpose, and why.", example: "{open-to-world: Port 443 is public on purpose}",
		kind: pairs("rules", label, func(f *fleet.Fleet) *[]fleet.Pair { return &f.Accept })},
)

func newPlatform(name string) *fleet.Platform { return &fleet.Platform{Name: name} }
func platformName(p *fleet.Platform) string   { return p.Name }

func version() kind[fleet.Fleet] {
	return kind[fleet.Fleet]{name: "the number 1", schema: func() schema { return schema{"const": 1} }, read: func(r *reader, l layer, into *fleet.Fleet) bool {
		top, ok := r.scalar(l, "the number "+Version, Version)
		if ok && top.node.Value == Version && top.node.Tag != "!!int" {
			return r.wrongType(top, "the number "+Version, "remove the quotes")
		}
		if ok && top.node.Value != Version {
			r.fault(ruleUnknownVersion, top, "version "+quoted(top.node.Value)+" of the language is not known to this program", "write `stavren: "+Version+"`, or use a newer Stavren")
			return false
		}
		return ok
	}}
}

var systemTable = newTable[fleet.System]("a system", nil,
	field[fleet.System]{key: "title", doc: "Its full name.", standard: "its name", example: "Skerry Linux 3",
		kind: text(oneLine, func(s *fleet.System) *string { return &s.Title })},
	field[fleet.System]{key: "family", doc: "The family whose ways it has.", example: "debian", required: true,
		kind: choice(func(s *fleet.System) *string { return &s.Family }, catalog.FamilyKeys()...)},
	field[fleet.System]{key: "min_memory", doc: "The least memory that it runs in.", standard: fleet.DefaultMinMemory.String(), example: "512MiB",
		kind: amount(fleet.MiB, func(s *fleet.System) *fleet.Bytes { return &s.MinMemory })},
	field[fleet.System]{key: "min_disk", doc: "The least disk that it runs in.", standard: fleet.DefaultMinDisk.String(), example: "4GiB",
		kind: amount(fleet.MiB, func(s *fleet.System) *fleet.Bytes { return &s.MinDisk })},
	field[fleet.System]{key: "login", doc: "The account that its image comes with.", example: "skerry",
		kind: word(userName, func(s *fleet.System) *string { return &s.Login })},
	field[fleet.System]{key: "end_of_life", doc: "The last day with security updates.", example: "2031-12-31",
		kind: date(func(s *fleet.System) *time.Time { return &s.EndOfLife })},
)

var imageTable = newTable("an image", func(_ *reader, i *fleet.Image) { i.SHA256 = strings.ToLower(i.SHA256) },
	field[fleet.Image]{key: "os", doc: "The system on the image, from the built-in list or from `systems`.", example: "debian-12", required: true,
		kind: text(oneLine, func(i *fleet.Image) *string { return &i.OS })},
	field[fleet.Image]{key: "arch", doc: "Processor architecture.", standard: fleet.DefaultArch, example: "amd64",
		kind: choice(func(i *fleet.Image) *string { return &i.Arch }, "amd64", "arm64")},
	field[fleet.Image]{key: "file", doc: "The disk image that hypervisors boot; relative to the definition, or absolute.", example: "images/debian-12.qcow2",
		kind: hostPath(func(i *fleet.Image) *string { return &i.File }, func(i *fleet.Image) *string { return &i.Folder })},
	field[fleet.Image]{key: "sha256", doc: "Checksum of the file, 64 hexadecimal digits.", example: "\"" + strings.Repeat("0f", 32) + "\"",
		kind: text(checksum, func(i *fleet.Image) *string { return &i.SHA256 })},
	field[fleet.Image]{key: "ids", doc: "What each platform calls the same image, by target name.", example: "{heat: Debian 12}",
		kind: pairs("targets", targetName, func(i *fleet.Image) *[]fleet.Pair { return &i.IDs })},
)

var checksum = matching(regexp.MustCompile(`^[0-9A-Fa-f]{64}$`), "is not a SHA-256 checksum of 64 hexadecimal digits")

// hostPath is a path on the host that is used later and not read now. It keeps
// the folder of the definition that it is relative to.
func hostPath[T any](at, folder func(*T) *string) kind[T] {
	k := text(pathText, at)
	k.name = "path"
	read := k.read
	k.read = func(r *reader, l layer, into *T) bool {
		if !read(r, l, into) {
			return false
		}
		*folder(into) = l.document.folder
		return true
	}
	return k
}

func pathText(text string) string {
	if text == "" {
		return "is empty"
	}
	return oneLine(text)
}

var networkTable = newTable("a network", finishNetwork,
	field[fleet.Network]{key: "mode", doc: "How the network is tied to its surroundings: `nat` reaches out through the host, `host-only` joins machines and host, `bridged` is the host's own network, `isolated` joins the machines alone.", standard: "nat", example: "nat",
		kind: choice(func(n *fleet.Network) *fleet.NetworkMode { return &n.Mode }, fleet.NAT, fleet.HostOnly, fleet.Bridged, fleet.Isolated)},
	field[fleet.Network]{key: "subnet", doc: "Its address range. A bridged network may leave it out.", example: "10.44.7.0/24",
		kind: subnet(func(n *fleet.Network) *netip.Prefix { return &n.Subnet })},
	field[fleet.Network]{key: "gateway", doc: "The router's address.", standard: "the first address of the subnet; none if host-only or isolated", example: "10.44.7.1",
		kind: address("10.44.7.1", func(n *fleet.Network) *netip.Addr { return &n.Gateway })},
	field[fleet.Network]{key: "dns", doc: "Name servers.", standard: "the gateway", example: "[10.44.7.1]",
		kind: addresses(func(n *fleet.Network) *[]netip.Addr { return &n.DNS })},
	field[fleet.Network]{key: "search", doc: "Domains that short names are looked up in.", example: "[skerry.example]",
		kind: words("domains", domain, func(n *fleet.Network) *[]string { return &n.Search })},
	field[fleet.Network]{key: "bridge", doc: "The host's bridge that a bridged network is on.", example: "br0",
		kind: text(bridgeName, func(n *fleet.Network) *string { return &n.Bridge })},
	field[fleet.Network]{key: "dhcp_first", doc: "First address that DHCP hands out.", example: "10.44.7.100",
		kind: address("10.44.7.100", func(n *fleet.Network) *netip.Addr { return &n.DHCPFirst })},
	field[fleet.Network]{key: "dhcp_last", doc: "Last address that DHCP hands out.", example: "10.44.7.199",
		kind: address("10.44.7.199", func(n *fleet.Network) *netip.Addr { return &n.DHCPLast })},
)

// bridgeName is what Linux takes for a network device: at most 15 bytes.
var bridgeName = matching(regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,14}$`), "is not the name of a network device: letters, digits and . _ - only, at most 15")

func finishNetwork(r *reader, n *fleet.Network) {
	place := n.PlaceOf(fleet.Itself)
	if !n.Subnet.IsValid() && n.Mode != fleet.Bridged {
		r.faultAt(ruleMissingKey, place, "a network needs the key \"subnet\"", "add `subnet: 10.44.7.0/24`")
	}
	if n.Bridge != "" && n.Mode != fleet.Bridged {
		r.faultAt(ruleBadValue, n.PlaceOf("bridge"), "\"bridge\" is for bridged networks, and this one is not", "write mode: bridged, or remove the bridge")
	}
	if n.DHCPFirst.IsValid() != n.DHCPLast.IsValid() || n.DHCPFirst.IsValid() && n.DHCPLast.Less(n.DHCPFirst) {
		r.faultAt(ruleBadValue, place, "the addresses that DHCP hands out have no first and last in order", "write both dhcp_first and dhcp_last, the lower one first")
	}
}

// confidential marks a table in which people write secrets by mistake.
func confidential[T any, P noun[T]](t *table[T, P]) *table[T, P] {
	t.secret = true
	return t
}

var keyTable = confidential(withContent(newTable[fleet.Key]("a key", nil,
	contentFields(true, "\"ssh-ed25519 AAAA… ops\"", "keys/ops.pub", func(k *fleet.Key) *fleet.Content { return &k.Content })...)))

var secretTable = confidential(newTable("a secret", finishSecret,
	field[fleet.Secret]{key: "env", doc: "Environment variable that holds it.", example: "TIDE_DATABASE_PASSWORD",
		kind: text(environmentName, func(s *fleet.Secret) *string { return &s.Env })},
	field[fleet.Secret]{key: "file", doc: "File that holds it, relative to the definition; read when rendering.", example: "secrets/database",
		kind: hostPath(func(s *fleet.Secret) *string { return &s.File }, func(s *fleet.Secret) *string { return &s.Folder })},
))

var environmentName = matching(regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`), "is not the name of an environment variable")

func finishSecret(r *reader, s *fleet.Secret) {
	if (s.Env == "") == (s.File == "") {
		r.faultAt(ruleMissingKey, s.PlaceOf(fleet.Itself), r.here()+" does not say in one way where it is read from", "write either `env: NAME` or `file: PATH`")
	}
}

var firewallTable = newTable[fleet.Firewall]("a firewall", nil,
	field[fleet.Firewall]{key: "allow", doc: "Who may come in; everything else is refused.", example: "[{port: 443/tcp, from: any}]", required: true,
		kind: listed(allowanceTable, func(w *fleet.Firewall) *[]*fleet.Allowance { return &w.Allow })},
)

var allowanceTable = newTable[fleet.Allowance]("an entry", nil,
	field[fleet.Allowance]{key: "port", doc: "Port or range with its protocol, `icmp`, or `any`.", example: "443/tcp", required: true,
		kind: portRange(func(a *fleet.Allowance) *fleet.PortRange { return &a.Port })},
	field[fleet.Allowance]{key: "from", doc: "Who may come in: `any`, an address range, or a list of them.", example: "198.51.100.0/24", required: true,
		kind: prefixes(true, func(a *fleet.Allowance) *[]netip.Prefix { return &a.From })},
)

var platformTable = newTable[fleet.Platform]("a platform", nil,
	field[fleet.Platform]{key: "region", doc: "Region of the platform.", example: "eu-north-1", kind: text(oneLine, func(p *fleet.Platform) *string { return &p.Region })},
	field[fleet.Platform]{key: "zone", doc: "Zone within the region.", example: "eu-north-1a", kind: text(oneLine, func(p *fleet.Platform) *string { return &p.Zone })},
	field[fleet.Platform]{key: "network", doc: "The platform's network that machines are put on.", example: "quay-net", kind: text(oneLine, func(p *fleet.Platform) *string { return &p.Network })},
	field[fleet.Platform]{key: "address_pool", doc: "Pool that public addresses come from.", example: "outside", kind: text(oneLine, func(p *fleet.Platform) *string { return &p.AddressPool })},
	field[fleet.Platform]{key: "size", doc: "The size that machines get.", standard: "the best fit", example: "small", kind: text(oneLine, func(p *fleet.Platform) *string { return &p.Size })},
	field[fleet.Platform]{key: "sizes", doc: "Sizes of a platform without public ones, by name.", example: "{small: {cpus: 1, memory: 1GiB}}",
		kind: named(sizeTable, names[fleet.Platform, *fleet.Size]{shortText, func(p *fleet.Platform) *[]*fleet.Size { return &p.Sizes },
			func(name string) *fleet.Size { return &fleet.Size{Name: name} }, func(s *fleet.Size) string { return s.Name }})},
	field[fleet.Platform]{key: "settings", doc: "What the platform alone understands.", example: "{tenancy: office}",
		kind: pairs("settings", shortText, func(p *fleet.Platform) *[]fleet.Pair { return &p.Settings })},
)

var sizeTable = newTable[fleet.Size]("a size", nil,
	field[fleet.Size]{key: "cpus", doc: "Its virtual processors.", example: "2", required: true, kind: whole(1, 1024, "a number such as 2", func(s *fleet.Size) *int { return &s.CPUs })},
	field[fleet.Size]{key: "memory", doc: "Its memory.", example: "4GiB", required: true, kind: amount(fleet.MiB, func(s *fleet.Size) *fleet.Bytes { return &s.Memory })},
	field[fleet.Size]{key: "disk", doc: "The disk that comes with it.", example: "20GiB", kind: amount(fleet.MiB, func(s *fleet.Size) *fleet.Bytes { return &s.Disk })},
)

var limitTable = newTable[fleet.Limit]("a limit", nil,
	field[fleet.Limit]{key: "machines", doc: "Machines at the most.", example: "10", kind: whole(0, 1e6, "a number such as 10", func(l *fleet.Limit) *int { return &l.Machines })},
	field[fleet.Limit]{key: "cpus", doc: "Virtual processors at the most.", example: "20", kind: whole(0, 1e6, "a number such as 20", func(l *fleet.Limit) *int { return &l.CPUs })},
	field[fleet.Limit]{key: "memory", doc: "Memory at the most.", example: "16GiB", kind: amount(0, func(l *fleet.Limit) *fleet.Bytes { return &l.Memory })},
	field[fleet.Limit]{key: "disk", doc: "Disk room at the most.", example: "500GiB", kind: amount(0, func(l *fleet.Limit) *fleet.Bytes { return &l.Disk })},
	field[fleet.Limit]{key: "public_addresses", doc: "Public addresses at the most.", example: "5", kind: whole(0, 1e6, "a number such as 5", func(l *fleet.Limit) *int { return &l.PublicAddresses })},
	field[fleet.Limit]{key: "reserve", doc: "Share of the host's memory kept for the host itself.", standard: "0%", example: "50%", kind: percent(func(l *fleet.Limit) *int { return &l.Reserve })},
)
