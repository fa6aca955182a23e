// Package firewall renders a machine's firewalls where no cloud keeps them: as rules for
// nftables, pf and Windows' own firewall inside the machine, and for pf on its host.
package firewall

import (
	"net/netip"

	"stavren.example/stavren/fleet"
)

// Opening allows incoming connections. First and Last are 0 for protocols without ports.
type Opening struct {
	Protocol    fleet.Protocol
	First, Last int
	// From lists the addresses that may connect; empty means everyone.
	From []netip.Prefix
}

// Of returns what a machine's firewalls let in, and false if it has none, so that
// nothing is refused. host is the address under which the machine sees its host, or
// invalid.
//
// A forwarded port that no firewall mentions is open to everyone who reaches it at the
// host, as it is in clouds. One that a firewall does mention is open to those whom the
// firewall allows and to the host itself, for which it was forwarded.
func Of(f *fleet.Fleet, m *fleet.Machine, host netip.Addr) ([]Opening, bool) {
	if len(m.Firewall) == 0 {
		return nil, false
	}
	var openings []Opening
	for _, name := range m.Firewall {
		firewall := f.Firewall(name)
		if firewall == nil {
			continue // check reports it
		}
		for _, allow := range firewall.Allow {
			from := f.Sources(allow)
			if len(from) > 0 || allow.FromAnyone() {
				openings = append(openings, Opening{allow.Port.Protocol, allow.Port.First, allow.Port.Last, from})
			}
		}
	}
	for _, port := range m.Ports {
		opening := Opening{Protocol: port.Protocol, First: port.Machine, Last: port.Machine}
		if f.FirewallMentions(m, port.Protocol, port.Machine) {
			if !host.IsValid() {
				continue
			}
			opening.From = []netip.Prefix{netip.PrefixFrom(host, host.BitLen())}
		}
		openings = append(openings, opening)
	}
	return openings, true
}

// sources returns whom an opening lets in, one after the other; an invalid prefix stands
// for everyone.
func (o Opening) sources() []netip.Prefix {
	if len(o.From) == 0 {
		return []netip.Prefix{{}}
	}
	return o.From
}
