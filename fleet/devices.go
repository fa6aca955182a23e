package fleet

import "net/netip"

// RootDisk is the name of the disk that has the image. Every machine has it.
const RootDisk = "root"

// DiskFormat says how a disk uses space on its host.
type DiskFormat string

// The formats of disks.
const (
	// Thin disks grow as they fill.
	Thin DiskFormat = "thin"
	// Full disks take all their space at once.
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
	// FileSystem is what a data disk is formatted with, once, or empty.
	FileSystem string `key:"filesystem"`
	// Label is the file system's label, by default the disk's name.
	Label string `key:"label"`
	// Mount is the folder that a data disk is mounted on, or empty.
	Mount string `key:"mount"`
	// Options lists mount options in addition to the defaults.
	Options []string `key:"options"`
	// Keep says that the disk outlives the machine.
	Keep bool `key:"keep"`
	// Start is a disk image that the disk is a copy of at first, or empty: a path
	// relative to Folder, or absolute.
	Start string `key:"start"`
	// Folder is the folder of the definition that names Start.
	Folder string
	// Serial identifies the disk inside the machine. It is derived; see
	// [Fleet.Complete].
	Serial string
}

// IsRoot reports whether the disk is the one that has the image.
func (d *Disk) IsRoot() bool { return d.Name == RootDisk }

// Medium is the image of a disc in a drive.
type Medium struct {
	Origins
	Name string
	// File is the disc's image: a path relative to Folder, or absolute.
	File string `key:"file"`
	// BootFirst boots the machine from the disc before its disk.
	BootFirst bool `key:"boot_first"`
	// Eject takes the disc out after the first boot.
	Eject bool `key:"eject"`
	// Folder is the folder of the definition that names File.
	Folder string
}

// NICModel is the type of network interface that the machine sees.
type NICModel string

// The models of network interfaces.
const (
	VirtIONIC NICModel = "virtio"
	E1000     NICModel = "e1000"
)

// NIC connects a machine to a network.
type NIC struct {
	Origins
	// Name is unique in the machine. It is also the network's name unless Network
	// says otherwise.
	Name    string
	Network string   `key:"network"`
	Model   NICModel `key:"model"`
	// Address is a fixed address. It is invalid if the network assigns one by DHCP.
	Address netip.Addr `key:"address"`
	// HardwareAddress is six bytes such as "02:…". It is derived unless it is given.
	HardwareAddress string `key:"hardware_address"`
	// Also lists further addresses with their prefix lengths.
	Also []netip.Prefix `key:"also"`
	// Routes lists routes to other networks.
	Routes []*Route `key:"routes"`
	// Primary marks the interface that leads out, by default the first one.
	Primary bool `key:"primary"`
}

// DHCP reports whether the network assigns the machine's address.
func (n *NIC) DHCP() bool { return !n.Address.IsValid() }

// Route leads to a network through a neighbour.
type Route struct {
	Origins
	To  netip.Prefix `key:"to"`
	Via netip.Addr   `key:"via"`
}

// Protocol is a transport protocol of a port.
type Protocol string

// The protocols. Only ports of the first two can be forwarded; firewalls know all.
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
	// Host is the port on the host. If Auto is set, [Fleet.Complete] chooses it, and
	// it is 0 if every port of the range is taken.
	Host int `key:"host"`
	// Auto says that the host's port is chosen, not given.
	Auto bool
	// Machine is the port inside the machine.
	Machine int `key:"machine"`
	// Protocol is tcp by default.
	Protocol Protocol `key:"protocol"`
	// Listen is the host's address that accepts connections, by default 127.0.0.1.
	Listen netip.Addr `key:"listen"`
}
