package fleet

import (
	"io/fs"
	"net/netip"
)

// Host is what is known of the computer that machines will run on. It is plain
// data: whoever looked put it together, and checks compare with it.
type Host struct {
	// Listening lists the sockets that take connections or packets now.
	Listening []Socket
	// CPUs counts the host's processors.
	CPUs int
	// MemoryFree is what programs can still be given; 0 if unknown.
	MemoryFree Bytes
	// Bridges names the host's bridges.
	Bridges []string
	// Subnets lists the networks that the host is on.
	Subnets []netip.Prefix
	// Virtualisation says why machines would be emulated, which is slow, or is
	// empty where the processor can run them.
	Virtualisation string
	// Tools says which programs are installed, of those that were looked for.
	Tools map[string]bool
	// Images are the image files that were looked for, by the image's name.
	Images map[string]HostImage
	// Room is what is free on the disk that machines' disks will grow on; 0 if
	// unknown. RoomAt says which folder that was.
	Room   Bytes
	RoomAt string
	// PrivateKeys are the modes of private keys that lie beside the public ones
	// of a fleet, by path.
	PrivateKeys map[string]fs.FileMode
}

// Socket is a port that is taken on an address.
type Socket struct {
	Protocol Protocol
	Address  netip.Addr
	Port     int
}

// HostImage is what is known of an image's file.
type HostImage struct {
	Path string
	// Missing says why it cannot be read, or is empty.
	Missing string
	// VirtualSize is the size of the disk that it holds; 0 if unknown.
	VirtualSize Bytes
	// SHA256 is its checksum, or empty if it was not asked for.
	SHA256 string
}
