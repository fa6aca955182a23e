package fleet

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"net/netip"
	"sort"
	"strings"
)

// digest hashes names into the bytes that derived values consist of. A zero byte ends
// each name, so that no two lists of names give the same input.
func digest(names ...string) [sha256.Size]byte {
	return sha256.Sum256([]byte(strings.Join(names, "\x00") + "\x00"))
}

// maxSerial is the longest serial that virtio-blk passes to the guest, in bytes
// (VIRTIO 1.2, 5.2.6: "ID string" of 20 bytes).
const maxSerial = 20

// deriveSerial returns the name of a disk inside the machine: the beginning of its
// own name, so that people recognise it, and eight digits that make it unique.
func deriveSerial(fleet, machine, disk string) string {
	sum := digest("serial", fleet, machine, disk)
	readable := disk
	if len(readable) > maxSerial-9 {
		readable = readable[:maxSerial-9]
	}
	return readable + "-" + hex.EncodeToString(sum[:4])
}

// deriveHardwareAddress returns a unicast, locally administered address (IEEE 802:
// second bit of the first byte set, first bit clear).
func deriveHardwareAddress(fleet, machine, nic string) string {
	sum := digest("hardware-address", fleet, machine, nic)
	text := []byte("02:00:00:00:00:00")
	for i := range 5 {
		hex.Encode(text[3*i+3:], sum[i:i+1])
	}
	return string(text)
}

// Host ports left to `auto` come from this range. It ends below the ports that the
// host assigns to outgoing connections.
const (
	FirstAutoPort = 20000
	LastAutoPort  = 31999
	autoPorts     = LastAutoPort - FirstAutoPort + 1
)

// The host assigns these ports to outgoing connections: Linux from 32768 to 60999
// (net.ipv4.ip_local_port_range), other systems from 49152 up (RFC 6335).
const (
	FirstOutgoingPort = 32768
	LastOutgoingPort  = 60999
)

// claim is a port of the host that something listens on.
type claim struct {
	protocol Protocol
	port     int
}

// choosePorts chooses the auto ports. Each port's first choice is derived from its
// names alone, so it stays when other machines come and go. Only if two first choices
// are the same, the later one by name takes its second, and so on.
func choosePorts(f *Fleet) {
	taken := map[claim]bool{}
	free := map[Protocol]int{TCP: autoPorts, UDP: autoPorts}
	take := func(c claim) {
		if !taken[c] && c.port >= FirstAutoPort && c.port <= LastAutoPort {
			free[c.protocol]--
		}
		taken[c] = true
	}
	type waiting struct {
		number   *int
		protocol Protocol
		names    string
		seed     [sha256.Size]byte
	}
	var queue []waiting
	add := func(number *int, auto bool, protocol Protocol, names string) {
		if !auto {
			take(claim{protocol, *number})
			return
		}
		*number = 0
		queue = append(queue, waiting{number, protocol, names, digest("port", f.Name, names)})
	}
	for _, machine := range f.Machines {
		for _, port := range machine.Ports {
			add(&port.Host, port.Auto, port.Protocol, machine.Name+"\x00"+port.Name)
		}
		if machine.Console.Kind == Graphical {
			// No port has this name, since it isn't a DNS label.
			add(&machine.Console.Port, machine.Console.Auto, TCP, machine.Name+"\x00/console")
		}
	}
	sort.SliceStable(queue, func(i, j int) bool { return queue[i].names < queue[j].names })
	const size = autoPorts
	for attempt := 0; len(queue) > 0 && attempt < size; attempt++ {
		var again []waiting
		for _, w := range queue {
			start := binary.BigEndian.Uint32(w.seed[:4])
			// An odd step that shares no factor with the size visits every port.
			step := binary.BigEndian.Uint32(w.seed[4:8])%(size/30)*30 + 1
			number := FirstAutoPort + int((uint64(start)+uint64(attempt)*uint64(step))%size)
			key := claim{w.protocol, number}
			switch {
			case free[w.protocol] == 0: // no later attempt finds one either
			case taken[key]:
				again = append(again, w)
			default:
				take(key)
				*w.number = number
			}
		}
		queue = again
	}
}

// Broadcast returns the last address of an IPv4 subnet, or an invalid address if the
// subnet is invalid.
func Broadcast(subnet netip.Prefix) netip.Addr {
	if !subnet.IsValid() {
		return netip.Addr{}
	}
	bytes := subnet.Masked().Addr().AsSlice()
	for bit := subnet.Bits(); bit < len(bytes)*8; bit++ {
		bytes[bit/8] |= 1 << (7 - bit%8)
	}
	last, _ := netip.AddrFromSlice(bytes)
	return last
}

// assign chooses addresses for interfaces without one, network by network. As with
// ports, the first choice is derived from the names alone. Only if two first choices
// are the same, the later one in the fleet takes the next free address.
func assign(f *Fleet, attached map[string][]Attachment) map[*NIC]netip.Addr {
	assigned := map[*NIC]netip.Addr{}
	for _, network := range f.Networks {
		if !network.Subnet.IsValid() || !network.Subnet.Addr().Is4() {
			continue
		}
		var open []Attachment
		taken := map[netip.Addr]bool{network.Gateway: true, network.Subnet.Masked().Addr(): true,
			Broadcast(network.Subnet): true}
		for _, server := range network.DNS {
			taken[server] = true
		}
		for _, at := range attached[network.Name] {
			taken[at.NIC.Address] = true
			if at.NIC.DHCP() {
				open = append(open, at)
			}
		}
		first := binary.BigEndian.Uint32(network.Subnet.Masked().Addr().AsSlice())
		size := uint64(1) << (32 - network.Subnet.Bits())
		for _, at := range open {
			sum := digest("address", f.Name, at.Machine.Name, at.NIC.Name)
			start := binary.BigEndian.Uint64(sum[:8]) % size
			for attempt := uint64(0); attempt < size && attempt < uint64(len(taken))+1; attempt++ {
				var bytes [4]byte
				binary.BigEndian.PutUint32(bytes[:], first+uint32((start+attempt)%size))
				if addr := netip.AddrFrom4(bytes); !taken[addr] {
					taken[addr] = true
					assigned[at.NIC] = addr
					break
				}
			}
		}
	}
	return assigned
}
