package source

import (
	"net/netip"
	"regexp"
	"strings"

	"stavren.example/stavren/fleet"
)

// Version is the version of the language that this package reads.
const Version = "1"

// fleetTable is the top of a definition.
var fleetTable = newTable[fleet.Fleet]("a definition", nil,
	field[fleet.Fleet]{key: "stavren", doc: "Version of the language.", example: "1", required: true, kind: version()},
	field[fleet.Fleet]{key: "fleet", doc: "Name of everything in this file.", example: "tide-office", required: true,
		kind: ownName(func(f *fleet.Fleet) *string { return &f.Name })},
	field[fleet.Fleet]{key: "about", doc: "One line on what the fleet is for.", example: "Tide gauges and almanac",
		kind: text(nil, func(f *fleet.Fleet) *string { return &f.About })},
	field[fleet.Fleet]{key: "images", doc: "Bootable images by name.", example: "{bookworm: {os: debian-12, file: images/debian-12.qcow2}}",
		kind: named(imageTable, label,
			func(f *fleet.Fleet) []*fleet.Image { return f.Images }, func(x *fleet.Image) string { return x.Name }, func(f *fleet.Fleet, name string) *fleet.Image {
				image := &fleet.Image{Name: name}
				f.Images = append(f.Images, image)
				return image
			})},
	field[fleet.Fleet]{key: "networks", doc: "Networks by name.", standard: "one nat network, `inner`", example: "{quay: {mode: nat, subnet: 10.44.7.0/24}}",
		kind: named(networkTable, label,
			func(f *fleet.Fleet) []*fleet.Network { return f.Networks }, func(x *fleet.Network) string { return x.Name }, func(f *fleet.Fleet, name string) *fleet.Network {
				network := &fleet.Network{Name: name}
				f.Networks = append(f.Networks, network)
				return network
			})},
	field[fleet.Fleet]{key: "keys", doc: "Public SSH keys by name.", example: "{ops: {file: keys/ops.pub}}",
		kind: named(keyTable, label,
			func(f *fleet.Fleet) []*fleet.Key { return f.Keys }, func(x *fleet.Key) string { return x.Name }, func(f *fleet.Fleet, name string) *fleet.Key {
				key := &fleet.Key{Name: name}
				f.Keys = append(f.Keys, key)
				return key
			})},
	field[fleet.Fleet]{key: "machines", doc: "Machines by name; a name becomes the host name.", example: "{almanac: {image: bookworm}}",
		kind: named(machineTable, label,
			func(f *fleet.Fleet) []*fleet.Machine { return f.Machines }, func(x *fleet.Machine) string { return x.Name }, func(f *fleet.Fleet, name string) *fleet.Machine {
				machine := &fleet.Machine{Name: name}
				f.Machines = append(f.Machines, machine)
				return machine
			})},
)

func version() kind[fleet.Fleet] {
	return kind[fleet.Fleet]{name: "the number 1", read: func(r *reader, v view, into *fleet.Fleet) bool {
		top, ok := r.scalar(v, "the number "+Version, Version)
		if ok && top.node.Value != Version {
			r.fault(ruleUnknownVersion, top, "version "+quoted(top.node.Value)+" of the language is not known to this program", "write `stavren: "+Version+"`, or use a newer Stavren")
			return false
		}
		return ok
	}}
}

// ownName is the name of the noun itself.
func ownName[T any](at func(*T) *string) kind[T] { return word(label, at) }

// word is a text that passes a rule for names.
func word[T any](rule nameRule, at func(*T) *string) kind[T] {
	return kind[T]{name: "name", print: func(of *T) string { return *at(of) }, read: func(r *reader, v view, into *T) bool {
		top, ok := r.text(v)
		if !ok {
			return false
		}
		if remedy := rule(top.node.Value); remedy != "" {
			r.fault(ruleBadName, top, r.here()+" cannot be "+quoted(top.node.Value), remedy)
			return false
		}
		*at(into) = top.node.Value
		return true
	}}
}

var imageTable = newTable("an image", finishImage,
	field[fleet.Image]{key: "os", doc: "The system on the image, from the built-in list (`stavren show` names it in full).", example: "debian-12", required: true,
		kind: text(oneLine, func(i *fleet.Image) *string { return &i.OS })},
	field[fleet.Image]{key: "arch", doc: "Processor architecture.", standard: fleet.DefaultArch, example: "amd64",
		kind: choice(func(i *fleet.Image) *string { return &i.Arch }, "amd64", "arm64")},
	field[fleet.Image]{key: "file", doc: "The disk image that hypervisors boot; relative to the definition, or absolute.", example: "images/debian-12.qcow2",
		kind: text(oneLine, func(i *fleet.Image) *string { return &i.File })},
	field[fleet.Image]{key: "sha256", doc: "Checksum of the file, 64 hexadecimal digits.", example: "\"" + strings.Repeat("0f", 32) + "\"",
		kind: text(checksum, func(i *fleet.Image) *string { return &i.SHA256 })},
	field[fleet.Image]{key: "ids", doc: "What each platform calls the same image, by target name.", example: "{heat: Debian 12}", kind: imageIDs()},
)

func finishImage(r *reader, image *fleet.Image, place layer) {
	image.Folder = place.document.folder
	image.SHA256 = strings.ToLower(image.SHA256)
}

var checksumPattern = regexp.MustCompile(`^[0-9A-Fa-f]{64}$`)

func checksum(text string) string {
	if checksumPattern.MatchString(text) {
		return ""
	}
	return "is not a SHA-256 checksum of 64 hexadecimal digits"
}

func imageIDs() kind[fleet.Image] {
	return kind[fleet.Image]{name: "map of texts", read: func(r *reader, v view, into *fleet.Image) bool {
		if !r.wantMap(v, "a map of target names") {
			return false
		}
		for _, e := range r.entries(v) {
			r.enter(e.name())
			if remedy := targetName(e.name()); remedy != "" {
				r.fault(ruleBadName, e.key, quoted(e.name())+" cannot be the name of a target", remedy)
			}
			if top, ok := r.text(e.view); ok {
				if fault := oneLine(top.node.Value); fault != "" {
					r.fault(ruleBadValue, top, r.here()+" "+fault, "write the image's identifier on that platform")
				} else {
					id := fleet.ImageID{Target: e.name(), ID: top.node.Value}
					id.SetOrigin(fleet.Itself, e.key.origin())
					into.IDs = append(into.IDs, id)
				}
			}
			r.leave()
		}
		return true
	}}
}

var networkTable = newTable[fleet.Network]("a network", nil,
	field[fleet.Network]{key: "mode", doc: "How the network is tied to its surroundings.", standard: "nat", example: "nat",
		kind: choice(func(n *fleet.Network) *fleet.NetworkMode { return &n.Mode }, fleet.NAT)},
	field[fleet.Network]{key: "subnet", doc: "Its address range.", example: "10.44.7.0/24", required: true,
		kind: subnet(func(n *fleet.Network) *netip.Prefix { return &n.Subnet })},
	field[fleet.Network]{key: "gateway", doc: "The router's address.", standard: "the first address of the subnet", example: "10.44.7.1",
		kind: address("10.44.7.1", func(n *fleet.Network) *netip.Addr { return &n.Gateway })},
	field[fleet.Network]{key: "dns", doc: "Name servers.", standard: "the gateway", example: "[10.44.7.1]",
		kind: addresses(func(n *fleet.Network) *[]netip.Addr { return &n.DNS })},
	field[fleet.Network]{key: "search", doc: "Domains that short names are looked up in.", example: "[skerry.example]",
		kind: words("domains", domain, func(n *fleet.Network) *[]string { return &n.Search })},
)

var keyTable = newTable("a key", finishContent(func(k *fleet.Key) *fleet.Content { return &k.Content }),
	contentFields(true, "\"ssh-ed25519 AAAA… ops\"", "keys/ops.pub", func(k *fleet.Key) *fleet.Content { return &k.Content })...)

// missingContent tells a noun that has neither text nor file.
func missingContent(r *reader, content *fleet.Content, place layer, had func(key string) bool) {
	if had("text") && had("file") {
		r.fault(ruleBothContents, place, r.here()+" has both text and file", "keep one of the two")
	}
	if !had("text") && !had("file") && !r.faultBelow() {
		if place.key != nil {
			place.node = place.key
		}
		r.fault(ruleMissingKey, place, r.here()+" has no content", "add `text:` with the content, or `file:` with the path of a file beside the definition")
	}
}

// faultBelow reports whether a key below the noun being read was at fault, so
// that one cause gives one fault.
func (r *reader) faultBelow() bool {
	if len(r.faults) == 0 {
		return false
	}
	return strings.HasPrefix(r.faults[len(r.faults)-1].Path, r.path.String()+".")
}
