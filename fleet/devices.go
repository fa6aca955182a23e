package fleet

import "net/netip"

// RootDisk is the name of the disk that holds the image. Every machine has it.
const RootDisk = "root"

// DiskFormat says how a disk takes room on its host.
type DiskFormat string

// The formats of disks.
const (
	// Thin disks grow as they fill.
	Thin DiskFormat = "thin"
	// Full disks take all their room at once.
	Full DiskFormat = "full"
)

// DiskBus is what a disk is attached to.
type DiskBus string

// The buses of disks.
const (
	VirtIO DiskBus = "virtio"
	SCSI   DiskBus = "scsi"
	SATA   DiskBus = "sata"
	NVMe   DiskBus = "nvme"
)

// DiskSpeed is a class of storage.
type DiskSpeed string

// The classes of storage.
const (
	Standard DiskSpeed = "standard"
	Fast     DiskSpeed = "fast"
)

// Disk is a block device of a machine.
type Disk struct {
	Origins
	Name   string
	Size   Bytes      `key:"size"`
	Format DiskFormat `key:"format"`
	Bus    DiskBus    `key:"bus"`
	Speed  DiskSpeed  `key:"speed"`
	// FileSystem is what a data disk is formatted with once, or empty.
	FileSystem string `key:"filesystem"`
	// Label is the file system's label, by default the disk's name.
	Label string `key:"label"`
	// Mount is the folder where a data disk appears, or empty.
	Mount string `key:"mount"`
	// Options lists mount options beside the defaults.
	Options []string `key:"options"`
	// Keep says that the disk outlives the machine.
	Keep bool `key:"keep"`
	// Start is a disk image whose content the disk starts with, or empty: a path
	// relative to Folder, or absolute.
	Start string `key:"start"`
	// Folder is the folder of the definition that names Start.
	Folder string
	// Serial tells the disk apart inside the machine; derived, see [Fleet.Complete].
	Serial string
}

// IsRoot reports whether the disk is the one that holds the image.
func (d *Disk) IsRoot() bool { return d.Name == RootDisk }

// Medium is an image of a disc in a drive.
type Medium struct {
	Origins
	Name string
	// File is the disc's image: a path relative to Folder, or absolute.
	File string `key:"file"`
	// BootFirst starts the machine from the disc rather than from its disk.
	BootFirst bool `key:"boot_first"`
	// Eject takes the disc out after the first boot.
	Eject bool `key:"eject"`
	// Folder is the folder of the definition that names File.
	Folder string
}

// NICModel is what a network interface looks like to the machine.
type NICModel string

// The models of network interfaces.
const (
	VirtIONIC NICModel = "virtio"
	E1000     NICModel = "e1000"
)

// NIC ties a machine to a network.
type NIC struct {
	Origins
	// Name is unique in the machine, and the network's name unless Network says otherwise.
	Name    string
	Network string   `key:"network"`
	Model   NICModel `key:"model"`
	// Address is fixed, or invalid when the network hands one out by DHCP.
	Address netip.Addr `key:"address"`
	// HardwareAddress is six bytes as "02:…"; derived unless given.
	HardwareAddress string `key:"hardware_address"`
	// Also lists further addresses with their prefix lengths.
	Also []netip.Prefix `key:"also"`
	// Routes lists ways to other networks.
	Routes []*Route `key:"routes"`
	// Primary is the interface that leads out; the first one, unless said.
	Primary bool `key:"primary"`
}

// DHCP reports whether the network gives the machine its address.
func (n *NIC) DHCP() bool { return !n.Address.IsValid() }

// Route leads to a network through a neighbour.
type Route struct {
	Origins
	To  netip.Prefix `key:"to"`
	Via netip.Addr   `key:"via"`
}

// Protocol is a transport protocol of a port.
type Protocol string

// The protocols. Ports are forwarded for the first two; firewalls know all.
const (
	TCP         Protocol = "tcp"
	UDP         Protocol = "udp"
	ICMP        Protocol = "icmp"
	AnyProtocol Protocol = "any"
)

// Port is forwarded from the host to the machine.
type Port struct {
	Origins
	Name string
	// Host is the port on the host. With Auto it is chosen by [Fleet.Complete],
	// and 0 if every port of the range is taken.
	Host int `key:"host"`
	// Auto says that nobody chose the host's port.
	Auto bool
	// Machine is the port inside the machine.
	Machine int `key:"machine"`
	// Protocol is tcp unless said otherwise.
	Protocol Protocol `key:"protocol"`
	// Listen is the host's address that takes connections, by default 127.0.0.1.
	Listen netip.Addr `key:"listen"`
}
