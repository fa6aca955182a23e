package fleet

import (
	"net/netip"
	"slices"
	"time"
)

// Fleet is everything in one definition. Lists keep the order of the definition.
// Names are unique within a list.
type Fleet struct {
	Origins
	// Variant is the variant that was chosen when the definition was read, or empty.
	Variant   string
	Name      string      `key:"fleet"`
	About     string      `key:"about"`
	Systems   []*System   `key:"systems"`
	Images    []*Image    `key:"images"`
	Networks  []*Network  `key:"networks"`
	Keys      []*Key      `key:"keys"`
	Secrets   []*Secret   `key:"secrets"`
	Firewalls []*Firewall `key:"firewalls"`
	Machines  []*Machine  `key:"machines"`
	Platforms []*Platform `key:"platforms"`
	Limits    []*Limit    `key:"limits"`
	// Accept lists the rules that are broken on purpose, and why, by rule name.
	Accept []Pair `key:"accept" scope:"definition"`

	index *index
}

// Pair is one entry of a map from names to texts, such as a label.
type Pair struct{ Key, Value string }

// System is an operating system that the built-in list lacks.
type System struct {
	Origins
	// Name is what images call it.
	Name string
	// Title is its full name.
	Title string `key:"title" scope:"definition"`
	// Family is the family of systems that it belongs to, such as "debian".
	Family string `key:"family"`
	// MinMemory and MinDisk are the least memory and disk that it runs with.
	MinMemory Bytes `key:"min_memory" scope:"definition"`
	MinDisk   Bytes `key:"min_disk" scope:"definition"`
	// Login is the account that its image includes.
	Login string `key:"login" scope:"definition"`
	// EndOfLife is the last day with security updates, or zero if unknown.
	EndOfLife time.Time `key:"end_of_life" scope:"definition"`
}

// Image is a bootable disk image: its file, and the system on it.
type Image struct {
	Origins
	Name string
	// OS is the name of an operating system in the built-in list or in Systems, such
	// as "debian-12".
	OS string `key:"os"`
	// Arch is the processor architecture, "amd64" or "arm64".
	Arch string `key:"arch"`
	// File is what hypervisors boot: a path relative to Folder, or absolute.
	File string `key:"file"`
	// SHA256 is the checksum of File in lower-case hexadecimal, or empty.
	SHA256 string `key:"sha256"`
	// Drivers lists what a prepared image has beyond the drivers of its system: "virtio".
	Drivers []string `key:"drivers"`
	// IDs says what each platform calls the same image, by target name.
	IDs []Pair `key:"ids"`
	// Folder is the folder of the definition that names File.
	Folder string
}

// VirtIODriver is the driver that a prepared image of Windows has for virtio devices.
const VirtIODriver = "virtio"

// HasDriver reports whether a prepared image has a driver beyond those of its system.
func (i *Image) HasDriver(name string) bool { return i != nil && slices.Contains(i.Drivers, name) }

// NetworkMode says how a network is connected to its surroundings.
type NetworkMode string

// The network modes of the language.
const (
	// NAT reaches out through the host, and the host reaches in through forwarded
	// ports.
	NAT NetworkMode = "nat"
	// HostOnly connects the machines with each other and with the host.
	HostOnly NetworkMode = "host-only"
	// Bridged puts the machines on the host's own network.
	Bridged NetworkMode = "bridged"
	// Isolated connects only the machines with each other.
	Isolated NetworkMode = "isolated"
)

// Network is a layer-2 segment that machines attach to.
type Network struct {
	Origins
	Name string
	Mode NetworkMode `key:"mode"`
	// Subnet is the network's address range; its host bits are zero. A bridged
	// network may have none.
	Subnet netip.Prefix `key:"subnet"`
	// Gateway is the router's address: by default the first of the subnet if the
	// network leads out, and none on a host-only or isolated network.
	Gateway netip.Addr `key:"gateway"`
	// DNS lists the name servers, by default only the gateway.
	DNS []netip.Addr `key:"dns"`
	// Search lists the domains that short names are looked up in.
	Search []string `key:"search"`
	// Bridge is the host's bridge that a bridged network is on.
	Bridge string `key:"bridge"`
	// DHCPFirst and DHCPLast bound the addresses that DHCP assigns. They may be
	// invalid.
	DHCPFirst netip.Addr `key:"dhcp_first"`
	DHCPLast  netip.Addr `key:"dhcp_last"`
}

// Key is a public SSH key under a name.
type Key struct {
	Origins
	Name    string
	Content `key:"text"`
}

// Secret says where to read a secret from when it is needed. It never holds the
// secret itself.
type Secret struct {
	Origins
	Name string
	// Env is the environment variable that has it.
	Env string `key:"env"`
	// File is the file that has it, relative to Folder. A newline at its end is not
	// part of it.
	File string `key:"file"`
	// Folder is the folder of the definition that names File.
	Folder string
}

// Platform is what a definition sets for one platform.
type Platform struct {
	Origins
	// Name is the name of a target.
	Name        string
	Region      string `key:"region"`
	Zone        string `key:"zone"`
	Network     string `key:"network"`
	AddressPool string `key:"address_pool"`
	// Size names the size that machines get, or is empty for the best fit.
	Size string `key:"size"`
	// Sizes lists the sizes of a platform without public ones.
	Sizes []*Size `key:"sizes"`
	// Settings holds what only that platform understands.
	Settings []Pair `key:"settings"`
}

// Size is what a platform sells under one name.
type Size struct {
	Origins
	Name   string
	CPUs   int   `key:"cpus"`
	Memory Bytes `key:"memory"`
	Disk   Bytes `key:"disk"`
	// Arch is the processor architecture, or empty for any.
	Arch string
}

// Limit is the most that a platform, or the host, provides. 0 means no limit.
type Limit struct {
	Origins
	// Name is the name of a target, or "host".
	Name            string
	Machines        int   `key:"machines" scope:"definition"`
	CPUs            int   `key:"cpus" scope:"definition"`
	Memory          Bytes `key:"memory" scope:"definition"`
	Disk            Bytes `key:"disk" scope:"definition"`
	PublicAddresses int   `key:"public_addresses" scope:"definition"`
	// Reserve is the share of the host's memory kept for itself, in percent.
	Reserve int `key:"reserve" scope:"definition"`
}

// Deployment returns the name under which clouds keep the fleet: its own and that of the
// variant, so that a variant never replaces what it is a variant of.
func (f *Fleet) Deployment() string {
	if f.Variant == "" {
		return f.Name
	}
	return f.Name + "-" + f.Variant
}
