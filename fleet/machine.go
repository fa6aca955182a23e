package fleet

import (
	"io/fs"
	"net/netip"
)

// Machine is one virtual machine, resolved: kits and variants have been joined
// into it and, after [Fleet.Complete], every default is filled in.
type Machine struct {
	Origins
	Name      string
	About     string     `key:"about"`
	Image     string     `key:"image"`
	HostName  string     `key:"host_name"`
	Domain    string     `key:"domain"`
	Resources Resources  `key:"resources"`
	Disks     []*Disk    `key:"disks"`
	NICs      []*NIC     `key:"nics"`
	Ports     []*Port    `key:"ports"`
	Users     []*User    `key:"users"`
	FirstBoot *FirstBoot `key:"first_boot"`
}

// Resources is the machine's share of its host.
type Resources struct {
	Origins
	// CPUs counts virtual processors.
	CPUs int `key:"cpus"`
	// Memory is the machine's main memory.
	Memory Bytes `key:"memory"`
}

// RootDisk is the name of the disk that holds the image. Every machine has it.
const RootDisk = "root"

// Disk is a block device of a machine.
type Disk struct {
	Origins
	Name string
	Size Bytes `key:"size"`
	// FileSystem is what a data disk is formatted with once, or empty.
	FileSystem string `key:"filesystem"`
	// Label is the file system's label, by default the disk's name.
	Label string `key:"label"`
	// Mount is the folder where a data disk appears, or empty.
	Mount string `key:"mount"`
	// Keep says that the disk outlives the machine.
	Keep bool `key:"keep"`
	// Serial tells the disk apart inside the machine; derived, see [Fleet.Complete].
	Serial string
}

// IsRoot reports whether the disk is the one that holds the image.
func (d *Disk) IsRoot() bool { return d.Name == RootDisk }

// NIC ties a machine to a network.
type NIC struct {
	Origins
	// Name is unique in the machine, and the network's name unless Network says otherwise.
	Name    string
	Network string `key:"network"`
	// Address is fixed, or invalid when the network hands one out by DHCP.
	Address netip.Addr `key:"address"`
	// HardwareAddress is six bytes as "02:…"; derived unless given.
	HardwareAddress string `key:"hardware_address"`
}

// DHCP reports whether the network gives the machine its address.
func (n *NIC) DHCP() bool { return !n.Address.IsValid() }

// Protocol is a transport protocol of a port.
type Protocol string

// The protocols that ports are forwarded for.
const (
	TCP Protocol = "tcp"
	UDP Protocol = "udp"
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

// AdminRights says what a user may do as the administrator.
type AdminRights string

// The admin rights of the language.
const (
	NoAdmin              AdminRights = "no"
	AdminWithPassword    AdminRights = "with-password"
	AdminWithoutPassword AdminRights = "without-password"
)

// User is an account that the machine is given at first boot.
type User struct {
	Origins
	Name     string
	FullName string      `key:"full_name"`
	Groups   []string    `key:"groups"`
	Admin    AdminRights `key:"admin"`
	// Shell is the login shell's path, or empty for the system's usual one.
	Shell string `key:"shell"`
	// Keys names the fleet's keys that may log in.
	Keys []string `key:"keys"`
}

// FirstBoot is what happens inside the machine when it starts for the first time.
type FirstBoot struct {
	Origins
	// Refresh fetches the package index before packages are installed.
	Refresh bool `key:"refresh"`
	// Upgrade brings every installed package up to date.
	Upgrade  bool      `key:"upgrade"`
	Packages []string  `key:"packages"`
	Files    []*File   `key:"files"`
	Scripts  []*Script `key:"scripts"`
}

// File is written into the machine at first boot.
type File struct {
	Origins
	// Path is absolute, inside the machine.
	Path    string
	Content `key:"text"`
	Mode    fs.FileMode `key:"mode"`
	// Owner is "user:group".
	Owner string `key:"owner"`
}

// When says how often a script runs.
type When string

// The times at which a script runs.
const (
	Once      When = "once"
	EveryBoot When = "every-boot"
)

// Script runs inside the machine as the administrator, after packages are in.
type Script struct {
	Origins
	Name    string
	Content `key:"text"`
	When    When `key:"when"`
}
