package firewall

import (
	"fmt"
	"net/netip"
	"strings"

	"stavren.example/stavren/fleet"
)

// PF returns rules for pf inside a machine (pf.conf(5)). The last rule that matches a
// packet decides; passing keeps state, so answers come back.
func PF(openings []Opening) string {
	return "# Made by Stavren from the machine's firewalls.\nset skip on lo0\nblock in all\npass out all\n" +
		rules(openings, "in", "")
}

// PFOnHost returns rules for pf on the host that hold a machine's firewalls at the
// host's end of one of its interfaces. What goes out there comes in to the machine.
func PFOnHost(openings []Opening, tap string) string {
	return fmt.Sprintf("block out on %[1]s all\npass in on %[1]s all\n", tap) + rules(openings, "out", " on "+tap)
}

func rules(openings []Opening, direction, on string) string {
	var text strings.Builder
	fmt.Fprintf(&text, "pass %s%s inet6 proto icmp6 all icmp6-type { unreach, toobig, timex, paramprob, listqry, "+
		"routeradv, neighbrsol, neighbradv }\n", direction, on)
	fmt.Fprintf(&text, "pass %s%s inet proto udp from any port 67 to any port 68\n", direction, on)
	fmt.Fprintf(&text, "pass %s%s inet6 proto udp from fe80::/10 port 547 to any port 546\n", direction, on)
	for _, opening := range openings {
		for _, from := range opening.sources() {
			for _, rule := range opening.pf(from) {
				fmt.Fprintf(&text, "pass %s%s %s\n", direction, on, rule)
			}
		}
	}
	return text.String()
}

// pf returns the rest of a rule for one source: one for each family of addresses where
// the protocol has a name in each.
func (o Opening) pf(from netip.Prefix) []string {
	source, families := "any", []string{"inet", "inet6"}
	if from.IsValid() {
		source = from.Masked().String()
		families = families[:1]
		if from.Addr().Is6() {
			families = []string{"inet6"}
		}
	}
	var list []string
	for _, family := range families {
		switch o.Protocol {
		case fleet.AnyProtocol:
			list = append(list, fmt.Sprintf("%s from %s to any", family, source))
		case fleet.ICMP:
			name := map[string]string{"inet": "icmp", "inet6": "icmp6"}[family]
			list = append(list, fmt.Sprintf("%s proto %s from %s to any", family, name, source))
		default:
			list = append(list, fmt.Sprintf("%s proto %s from %s to any port %s", family, o.Protocol, source,
				o.ports(":")))
		}
	}
	return list
}
