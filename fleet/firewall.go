package fleet

import (
	"fmt"
	"net/netip"
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
	// From lists the addresses that may connect; empty means everyone.
	From []netip.Prefix `key:"from"`
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
