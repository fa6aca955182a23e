package fleet

import "net/netip"

// Fleet is everything that one definition speaks of. Lists keep the order in
// which the definition names things; names are unique within a list.
type Fleet struct {
	Origins
	Name     string     `key:"fleet"`
	About    string     `key:"about"`
	Images   []*Image   `key:"images"`
	Networks []*Network `key:"networks"`
	Keys     []*Key     `key:"keys"`
	Machines []*Machine `key:"machines"`

	index *index
}

// Image is a bootable disk image: which system is on it and where it lies.
type Image struct {
	Origins
	Name string
	// OS names an entry of the catalogue of systems, such as "debian-12".
	OS string `key:"os"`
	// Arch is the processor architecture, "amd64" or "arm64".
	Arch string `key:"arch"`
	// File is what hypervisors boot: a path relative to Folder, or absolute.
	File string `key:"file"`
	// SHA256 is the checksum of File in lower-case hexadecimal, or empty.
	SHA256 string `key:"sha256"`
	// IDs says what each platform calls the same image, by target name.
	IDs []ImageID `key:"ids"`
	// Folder is the folder of the definition that names File.
	Folder string
}

// ImageID is the name of an image on one platform.
type ImageID struct {
	Origins
	Target string
	ID     string
}

// NetworkMode says how a network is tied to its surroundings.
type NetworkMode string

// The network modes of the language.
const (
	// NAT reaches out through the host; the host reaches in by forwarded ports.
	NAT NetworkMode = "nat"
)

// Network is a layer-2 segment that machines attach to.
type Network struct {
	Origins
	Name string
	Mode NetworkMode `key:"mode"`
	// Subnet is the network's address range; its host bits are zero.
	Subnet netip.Prefix `key:"subnet"`
	// Gateway is the router's address, by default the first of the subnet.
	Gateway netip.Addr `key:"gateway"`
	// DNS lists the name servers, by default the gateway alone.
	DNS []netip.Addr `key:"dns"`
	// Search lists the domains that short names are looked up in.
	Search []string `key:"search"`
}

// Key is a public SSH key under a name.
type Key struct {
	Origins
	Name    string
	Content `key:"text"`
}

// Content is text typed into a definition or taken from a file beside it.
type Content struct {
	// Text is the content itself, whatever its source. It may be any bytes.
	Text string
	// File is the path that Text was read from, or empty if it was typed in.
	File string
	// TextPlace is where the first byte of Text stands. Block reports that
	// line N of Text stands N-1 lines below it, at the same column, as in a
	// file of its own or a YAML literal block; otherwise only TextPlace itself
	// is known.
	TextPlace Place
	Block     bool
}

// PlaceAt returns where the given line and column of the text stand, both from
// 1, as nearly as is known.
func (c *Content) PlaceAt(line, column int) Place {
	place := c.TextPlace
	if !c.Block || !place.IsValid() {
		return place
	}
	place.Line += int32(line - 1)
	place.Column += int32(column - 1)
	return place
}

// index finds nouns by name. It is made by [Fleet.Complete]; a fleet that is
// still being put together is searched from end to end instead.
type index struct {
	images   map[string]*Image
	networks map[string]*Network
	keys     map[string]*Key
	machines map[string]*Machine
}

// named is a noun that is found by its name.
type named interface{ name() string }

func (i *Image) name() string   { return i.Name }
func (n *Network) name() string { return n.Name }
func (k *Key) name() string     { return k.Name }
func (m *Machine) name() string { return m.Name }

// byName indexes a list; of two nouns with one name the first is found.
func byName[T named](list []T) map[string]T {
	index := make(map[string]T, len(list))
	for _, noun := range list {
		if _, taken := index[noun.name()]; !taken {
			index[noun.name()] = noun
		}
	}
	return index
}

func find[T named](list []T, name string) (none T) {
	for _, noun := range list {
		if noun.name() == name {
			return noun
		}
	}
	return none
}

// Image returns the image of that name, or nil.
func (f *Fleet) Image(name string) *Image {
	if f.index != nil {
		return f.index.images[name]
	}
	return find(f.Images, name)
}

// Network returns the network of that name, or nil.
func (f *Fleet) Network(name string) *Network {
	if f.index != nil {
		return f.index.networks[name]
	}
	return find(f.Networks, name)
}

// Key returns the key of that name, or nil.
func (f *Fleet) Key(name string) *Key {
	if f.index != nil {
		return f.index.keys[name]
	}
	return find(f.Keys, name)
}

// Machine returns the machine of that name, or nil.
func (f *Fleet) Machine(name string) *Machine {
	if f.index != nil {
		return f.index.machines[name]
	}
	return find(f.Machines, name)
}
