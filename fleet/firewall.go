package fleet

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// Firewall is a set of rules that machines share. It refuses every incoming
// connection that it doesn't allow, and allows every outgoing one.
type Firewall struct {
	Origins
	Name  string
	Allow []*Allowance `key:"allow"`
}

// Allowance allows incoming connections.
type Allowance struct {
	Origins
	// Port is a port with its protocol, such as "80/tcp", "6000-6010/udp", "icmp"
	// or "any".
	Port PortRange `key:"port"`
	// From lists the addresses that may connect. If it and FromNames are empty, everyone may.
	From []netip.Prefix `key:"from"`
	// FromNames lists others of the fleet that may connect.
	FromNames []Peer
}

// Peer names others of the fleet: a network, a machine, or the machines of a firewall.
type Peer struct{ Kind, Name string }

// The kinds of peers.
const (
	PeerNetwork  = "network"
	PeerMachine  = "machine"
	PeerFirewall = "firewall"
)

// PeerKinds returns every kind of peer.
func PeerKinds() []string { return []string{PeerNetwork, PeerMachine, PeerFirewall} }

// String returns the peer in the form of definitions.
func (p Peer) String() string { return "{" + p.Kind + ": " + p.Name + "}" }

// FromAnyone reports whether an entry names nobody, and so lets everyone connect.
func (a *Allowance) FromAnyone() bool { return len(a.From) == 0 && len(a.FromNames) == 0 }

// Sources returns the addresses that an entry lets connect, those of names among them: the
// subnet of a network, and the fixed addresses of machines. It is empty for an entry that
// lets everyone connect, and may be for names without addresses, which check reports.
func (f *Fleet) Sources(allow *Allowance) []netip.Prefix {
	prefixes := slices.Clone(allow.From)
	for _, peer := range allow.FromNames {
		for _, prefix := range f.AddressesOf(peer) {
			if !slices.Contains(prefixes, prefix) {
				prefixes = append(prefixes, prefix)
			}
		}
	}
	return prefixes
}

// AddressesOf returns the addresses of a peer: none if it isn't defined, or has no subnet
// or fixed address.
func (f *Fleet) AddressesOf(peer Peer) []netip.Prefix {
	if peer.Kind == PeerNetwork {
		if network := f.Network(peer.Name); network != nil && network.Subnet.IsValid() {
			return []netip.Prefix{network.Subnet.Masked()}
		}
		return nil
	}
	var prefixes []netip.Prefix
	for _, m := range f.Machines {
		if peer.Kind == PeerMachine && m.Name != peer.Name ||
			peer.Kind == PeerFirewall && !slices.Contains(m.Firewall, peer.Name) {
			continue
		}
		for _, nic := range m.NICs {
			if nic.Address.IsValid() {
				prefixes = append(prefixes, netip.PrefixFrom(nic.Address, nic.Address.BitLen()))
			}
		}
	}
	return prefixes
}

// PortRange is a range of ports of one protocol.
type PortRange struct {
	// Protocol is "tcp", "udp", "icmp", or "any" for everything.
	Protocol Protocol
	// First and Last bound the range; both are 0 for icmp and any.
	First, Last int
}

// Covers reports whether the range includes a port of a protocol.
func (r PortRange) Covers(protocol Protocol, port int) bool {
	return r.Protocol == AnyProtocol || r.Protocol == protocol && r.First <= port && port <= r.Last
}

// IsEverything reports whether the range excludes no port of its protocol.
func (r PortRange) IsEverything() bool {
	return r.Protocol == AnyProtocol || r.First <= 1 && r.Last == 65535
}

// FirewallMentions reports whether a firewall of the machine has an entry for a port,
// no matter whom it allows to connect. A firewall that isn't defined has none.
func (f *Fleet) FirewallMentions(m *Machine, protocol Protocol, port int) bool {
	for _, name := range m.Firewall {
		firewall := f.Firewall(name)
		if firewall == nil {
			continue
		}
		for _, allow := range firewall.Allow {
			if allow.Port.Covers(protocol, port) {
				return true
			}
		}
	}
	return false
}

// String returns the range in the form of definitions: "80/tcp", "6000-6010/udp"
// or "icmp".
func (r PortRange) String() string {
	switch {
	case r.Protocol == ICMP || r.Protocol == AnyProtocol:
		return string(r.Protocol)
	case r.First == r.Last:
		return strconv.Itoa(r.First) + "/" + string(r.Protocol)
	}
	return strconv.Itoa(r.First) + "-" + strconv.Itoa(r.Last) + "/" + string(r.Protocol)
}

// ParsePortRange parses the form that [PortRange.String] returns.
func ParsePortRange(text string) (PortRange, error) {
	if text == string(ICMP) || text == string(AnyProtocol) {
		return PortRange{Protocol: Protocol(text)}, nil
	}
	fault := fmt.Errorf("%q is not a port or a range of ports with its protocol", text)
	ports, protocol, cut := strings.Cut(text, "/")
	if !cut || Protocol(protocol) != TCP && Protocol(protocol) != UDP {
		return PortRange{}, fault
	}
	low, high, isRange := strings.Cut(ports, "-")
	if !isRange {
		high = low
	}
	first, err := strconv.ParseUint(low, 10, 16)
	if err != nil {
		return PortRange{}, fault
	}
	last, err := strconv.ParseUint(high, 10, 16)
	if err != nil || first == 0 || last < first {
		return PortRange{}, fault
	}
	return PortRange{Protocol: Protocol(protocol), First: int(first), Last: int(last)}, nil
}
