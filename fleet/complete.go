package fleet

import (
	"net/netip"
)

// What a definition that says nothing means. They are chosen for a small server
// that any laptop can run, and show prints each of them.
const (
	DefaultArch        = "amd64"
	DefaultCPUs        = 1
	DefaultMemory      = 1 * GiB
	DefaultRootSize    = 10 * GiB
	DefaultFileMode    = 0o644
	DefaultFileOwner   = "root:root"
	DefaultNetworkName = "inner"
)

// DefaultSubnet is the subnet of the network that a fleet without networks gets.
var DefaultSubnet = netip.MustParsePrefix("10.177.0.0/24")

// DefaultListen is the host address that forwarded ports listen on.
var DefaultListen = netip.MustParseAddr("127.0.0.1")

// Complete fills in every value that was left out, marking each as a default
// in its Origins, and derives what is never written: disk serials, hardware
// addresses and the numbers of auto ports. It is safe to call twice. Call it
// after the last change to a fleet and before checking or rendering it.
func (f *Fleet) Complete() {
	if len(f.Networks) == 0 {
		network := &Network{Name: DefaultNetworkName, Mode: NAT, Subnet: DefaultSubnet}
		network.markDefault(Itself)
		network.markDefault("mode")
		network.markDefault("subnet")
		f.Networks = append(f.Networks, network)
	}
	for _, image := range f.Images {
		fill(&image.Origins, "arch", &image.Arch, DefaultArch)
	}
	for _, network := range f.Networks {
		network.complete()
	}
	for _, machine := range f.Machines {
		machine.complete(f)
	}
	choosePorts(f)
	f.index = &index{byName(f.Images), byName(f.Networks), byName(f.Keys), byName(f.Machines)}
}

// fill sets *value to the default if it was left out, and marks it.
func fill[T comparable](origins *Origins, key string, value *T, standard T) {
	var none T
	if *value == none {
		*value = standard
		origins.markDefault(key)
	}
}

func (n *Network) complete() {
	fill(&n.Origins, "mode", &n.Mode, NAT)
	if n.Subnet.IsValid() {
		fill(&n.Origins, "gateway", &n.Gateway, n.Subnet.Masked().Addr().Next())
	}
	if len(n.DNS) == 0 && n.Gateway.IsValid() {
		n.DNS = []netip.Addr{n.Gateway}
		n.markDefault("dns")
	}
}

func (m *Machine) complete(f *Fleet) {
	fill(&m.Origins, "host_name", &m.HostName, m.Name)
	fill(&m.Resources.Origins, "cpus", &m.Resources.CPUs, DefaultCPUs)
	fill(&m.Resources.Origins, "memory", &m.Resources.Memory, DefaultMemory)
	if m.FirstBoot == nil {
		m.FirstBoot = &FirstBoot{}
		m.markDefault("first_boot")
	}
	m.completeDisks(f)
	m.completeNICs(f)
	for _, port := range m.Ports {
		if port.Host == 0 {
			port.Auto = true
		}
		fill(&port.Origins, "protocol", &port.Protocol, TCP)
		fill(&port.Origins, "listen", &port.Listen, DefaultListen)
	}
	for _, user := range m.Users {
		fill(&user.Origins, "admin", &user.Admin, NoAdmin)
	}
	if !m.FirstBoot.Refresh && m.FirstBoot.OriginOf("refresh") == (Origin{}) &&
		(m.FirstBoot.Upgrade || len(m.FirstBoot.Packages) > 0) {
		m.FirstBoot.Refresh = true
		m.FirstBoot.markDefault("refresh")
	}
	for _, file := range m.FirstBoot.Files {
		fill(&file.Origins, "mode", &file.Mode, DefaultFileMode)
		fill(&file.Origins, "owner", &file.Owner, DefaultFileOwner)
	}
	for _, script := range m.FirstBoot.Scripts {
		fill(&script.Origins, "when", &script.When, Once)
	}
}

// completeDisks puts the root disk first, since every machine boots from it.
func (m *Machine) completeDisks(f *Fleet) {
	at := -1
	for i, disk := range m.Disks {
		if disk.IsRoot() {
			at = i
		}
	}
	var root *Disk
	if at < 0 {
		root = &Disk{Name: RootDisk}
		root.markDefault(Itself)
		m.Disks = append([]*Disk{root}, m.Disks...)
	} else if root = m.Disks[at]; at > 0 {
		copy(m.Disks[1:at+1], m.Disks[:at])
		m.Disks[0] = root
	}
	fill(&root.Origins, "size", &root.Size, DefaultRootSize)
	for _, disk := range m.Disks {
		if disk.FileSystem != "" {
			fill(&disk.Origins, "label", &disk.Label, disk.Name)
		}
		if disk.Serial == "" {
			disk.Serial = deriveSerial(f.Name, m.Name, disk.Name)
		}
	}
}

// completeNICs attaches a machine that names no network to the fleet's first.
func (m *Machine) completeNICs(f *Fleet) {
	if len(m.NICs) == 0 && len(f.Networks) > 0 {
		nic := &NIC{Name: f.Networks[0].Name}
		nic.markDefault(Itself)
		m.NICs = append(m.NICs, nic)
	}
	for _, nic := range m.NICs {
		fill(&nic.Origins, "network", &nic.Network, nic.Name)
		if nic.HardwareAddress == "" {
			nic.HardwareAddress = deriveHardwareAddress(f.Name, m.Name, nic.Name)
			nic.markDefault("hardware_address")
		}
	}
}
