package fleet

import (
	"io/fs"
	"net/netip"
)

// Host describes the computer that machines will run on. It is plain data, which
// checks compare with a fleet.
type Host struct {
	// Listening lists the sockets that programs listen on.
	Listening []Socket
	// CPUs is the number of the host's processors.
	CPUs int
	// MemoryFree is the memory available to programs, or 0 if it is unknown.
	MemoryFree Bytes
	// Bridges lists the names of the host's bridges.
	Bridges []string
	// Subnets lists the networks that the host is on.
	Subnets []netip.Prefix
	// Virtualisation says why machines would be emulated, which is slow. It is empty
	// if the processor can run them.
	Virtualisation string
	// Tools reports which of the programs that were looked for are installed.
	Tools map[string]bool
	// Images describes the image files that were looked for, by the image's name.
	Images map[string]HostImage
	// Room is the free space on the disk that the machines' disks will grow on, or 0
	// if it is unknown. RoomAt is the folder that was looked at.
	Room   Bytes
	RoomAt string
	// PrivateKeys has the modes of private keys beside the public keys of a fleet, by
	// path.
	PrivateKeys map[string]fs.FileMode
}

// Socket is a port that is in use on an address.
type Socket struct {
	Protocol Protocol
	Address  netip.Addr
	Port     int
}

// HostImage describes the file of an image.
type HostImage struct {
	Path string
	// Missing says why it can't be read, or is empty.
	Missing string
	// VirtualSize is the size of the disk in it, or 0 if it is unknown.
	VirtualSize Bytes
	// SHA256 is its checksum, or empty if nobody asked for it.
	SHA256 string
}
