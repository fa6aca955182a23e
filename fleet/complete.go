package fleet

import (
	"errors"
	"fmt"
	"net/netip"
	"runtime"
	"slices"
	"sync"
)

// Defaults. They suit a small server that any laptop can run, and show prints each of
// them.
const (
	DefaultArch        = "amd64"
	DefaultCPUs        = 1
	DefaultMemory      = 1 * GiB
	DefaultRootSize    = 10 * GiB
	DefaultFileMode    = 0o644
	DefaultFileOwner   = "root:root"
	DefaultNetworkName = "inner"
	DefaultTimeZone    = "Etc/UTC"
	DefaultResolution  = "1280x800"
	DefaultRunAs       = "root"
	// DefaultMinMemory and DefaultMinDisk are the least memory and disk that a system
	// defined by the definition is assumed to need.
	DefaultMinMemory = 256 * MiB
	DefaultMinDisk   = 2 * GiB
)

// DefaultSubnet is the subnet of the network that a fleet without networks gets.
var DefaultSubnet = netip.MustParsePrefix("10.177.0.0/24")

// DefaultListen is the host address that forwarded ports listen on.
var DefaultListen = netip.MustParseAddr("127.0.0.1")

// Complete fills in every value that was left out, marks it as a default in its
// Origins, and derives what nobody writes: disk serials, hardware addresses and auto
// ports. It can be called again. Call it after the last change to a fleet, before
// checking or rendering it; like any other change, not while it is being checked or
// rendered.
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
	f.completeMachines()
	choosePorts(f)
	f.index = newIndex(f)
}

// CheckComplete returns an error if [Fleet.Complete] has not been called. What checks
// and renders fleets relies on the values that it fills in.
func (f *Fleet) CheckComplete() error {
	switch {
	case f == nil:
		return errors.New("there is no fleet: it is nil")
	case f.index == nil || slices.ContainsFunc(f.Machines, func(m *Machine) bool { return m.FirstBoot == nil }):
		return fmt.Errorf("the fleet %q has not been completed since its last change; call Complete first", f.Name)
	}
	return nil
}

// completeMachines uses every processor, since machines share nothing.
func (f *Fleet) completeMachines() {
	const least = 64 // fewer machines are done before a second worker has begun
	workers := max(1, min(runtime.GOMAXPROCS(0), len(f.Machines)/least))
	var group sync.WaitGroup
	for worker := range workers {
		group.Go(func() {
			for i := worker; i < len(f.Machines); i += workers {
				f.Machines[i].complete(f)
			}
		})
	}
	group.Wait()
}

// fill sets *value to its default if it was left out, and marks it.
func fill[T comparable](origins *Origins, key string, value *T, byDefault T) {
	var none T
	if *value == none {
		*value = byDefault
		origins.markDefault(key)
	}
}

func (n *Network) complete() {
	fill(&n.Origins, "mode", &n.Mode, NAT)
	if n.Mode == HostOnly || n.Mode == Isolated {
		return // there is no way out, so no gateway and no name server
	}
	if n.Subnet.IsValid() {
		fill(&n.Origins, "gateway", &n.Gateway, n.Subnet.Masked().Addr().Next())
	}
	if len(n.DNS) == 0 && n.Gateway.IsValid() {
		n.DNS = []netip.Addr{n.Gateway}
		n.markDefault("dns")
	}
}

func (m *Machine) complete(f *Fleet) {
	fill(&m.Origins, "copies", &m.Copies, 1)
	fill(&m.Origins, "host_name", &m.HostName, m.Name)
	fill(&m.Origins, "clock", &m.Clock, UTC)
	fill(&m.Origins, "when_stopped", &m.WhenStopped, KeepStopped)
	fill(&m.Resources.Origins, "cpus", &m.Resources.CPUs, DefaultCPUs)
	fill(&m.Resources.Origins, "memory", &m.Resources.Memory, DefaultMemory)
	fill(&m.Resources.Origins, "priority", &m.Resources.Priority, Normal)
	fill(&m.SSH.Origins, "root_login", &m.SSH.RootLogin, NoRootLogin)
	fill(&m.Time.Origins, "zone", &m.Time.Zone, DefaultTimeZone)
	fill(&m.Firmware.Origins, "kind", &m.Firmware.Kind, BIOS)
	m.completeConsole()
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
	m.completeFirstBoot()
}

func (m *Machine) completeConsole() {
	console := &m.Console
	fill(&console.Origins, "kind", &console.Kind, Serial)
	if console.Kind != Graphical {
		return
	}
	if console.Port == 0 {
		console.Auto = true
	}
	fill(&console.Origins, "protocol", &console.Protocol, VNC)
	fill(&console.Origins, "listen", &console.Listen, DefaultListen)
	fill(&console.Origins, "resolution", &console.Resolution, DefaultResolution)
}

// completeDisks moves the root disk to the front, since every machine boots from it.
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
		fill(&disk.Origins, "format", &disk.Format, Thin)
		fill(&disk.Origins, "bus", &disk.Bus, VirtIO)
		fill(&disk.Origins, "speed", &disk.Speed, Standard)
		if disk.FileSystem != "" {
			fill(&disk.Origins, "label", &disk.Label, disk.Name)
		}
		if disk.Serial == "" {
			disk.Serial = deriveSerial(f.Name, m.Name, disk.Name)
		}
	}
}

// completeNICs attaches a machine that names no network to the first network of the
// fleet. The first interface is primary unless another one is.
func (m *Machine) completeNICs(f *Fleet) {
	if len(m.NICs) == 0 && len(f.Networks) > 0 {
		nic := &NIC{Name: f.Networks[0].Name}
		nic.markDefault(Itself)
		m.NICs = append(m.NICs, nic)
	}
	primary := false
	for _, nic := range m.NICs {
		primary = primary || nic.Primary
		fill(&nic.Origins, "network", &nic.Network, nic.Name)
		fill(&nic.Origins, "model", &nic.Model, VirtIONIC)
		if nic.HardwareAddress == "" {
			nic.HardwareAddress = deriveHardwareAddress(f.Name, m.Name, nic.Name)
			nic.markDefault("hardware_address")
		}
	}
	if !primary && len(m.NICs) > 0 {
		fill(&m.NICs[0].Origins, "primary", &m.NICs[0].Primary, true)
	}
}

func (m *Machine) completeFirstBoot() {
	if m.FirstBoot == nil {
		m.FirstBoot = &FirstBoot{}
		m.markDefault("first_boot")
	}
	boot := m.FirstBoot
	if !boot.Refresh && !boot.Knows("refresh") && (boot.Upgrade || len(boot.Packages) > 0) {
		boot.Refresh = true
		boot.markDefault("refresh")
	}
	for _, file := range boot.Files {
		fill(&file.Origins, "mode", &file.Mode, DefaultFileMode)
		fill(&file.Origins, "owner", &file.Owner, DefaultFileOwner)
	}
	for _, script := range boot.Scripts {
		fill(&script.Origins, "when", &script.When, Once)
		fill(&script.Origins, "run_as", &script.RunAs, DefaultRunAs)
	}
}
