package firewall

import (
	"fmt"
	"net/netip"
	"strings"

	"stavren.example/stavren/fleet"
)

// NFTables returns a file for nft(8) that replaces the table stavren, and touches no
// other. Of several tables, each has to let a packet pass, so rules that somebody adds
// elsewhere can refuse more, and open nothing.
//
// The table looks at packets before their destination is rewritten, since ports that
// containers publish would get past it otherwise.
func NFTables(openings []Opening) string {
	var text strings.Builder
	text.WriteString(`# Made by Stavren from the machine's firewalls.
table inet stavren
delete table inet stavren
table inet stavren {
	chain incoming {
		type filter hook prerouting priority -150; policy drop;
		# the machine itself, and its own containers
		iif "lo" accept
`)
	for _, name := range []string{"docker*", "br-*", "podman*", "cni*", "veth*", "virbr*"} {
		fmt.Fprintf(&text, "\t\tiifname %q accept\n", name)
	}
	text.WriteString(`		ct state established,related accept
		# neighbours and routers of IPv6 (RFC 4890, 4.4), and answers of DHCP
		icmpv6 type { destination-unreachable, packet-too-big, time-exceeded, parameter-problem } accept
		icmpv6 type { mld-listener-query, nd-router-advert, nd-neighbor-solicit, nd-neighbor-advert } accept
		udp sport 67 udp dport 68 accept
		ip6 saddr fe80::/10 udp sport 547 udp dport 546 accept
		# what the firewalls allow
`)
	for _, opening := range openings {
		for _, from := range opening.sources() {
			fmt.Fprintf(&text, "\t\t%saccept\n", opening.nft(from))
		}
	}
	text.WriteString("\t}\n}\n")
	return text.String()
}

// nft returns the conditions of an opening for one source, each followed by a space.
func (o Opening) nft(from netip.Prefix) string {
	source := ""
	switch {
	case !from.IsValid():
	case from.Bits() == 0 && from.Addr().Is4():
		source = "meta nfproto ipv4 "
	case from.Bits() == 0:
		source = "meta nfproto ipv6 "
	case from.Addr().Is4():
		source = "ip saddr " + from.Masked().String() + " "
	default:
		source = "ip6 saddr " + from.Masked().String() + " "
	}
	switch o.Protocol {
	case fleet.AnyProtocol:
		return source
	case fleet.ICMP:
		return source + "meta l4proto { icmp, ipv6-icmp } "
	}
	return fmt.Sprintf("%s%s dport %s ", source, o.Protocol, o.ports("-"))
}

// ports returns the range, or its one port.
func (o Opening) ports(to string) string {
	if o.First == o.Last {
		return fmt.Sprint(o.First)
	}
	return fmt.Sprintf("%d%s%d", o.First, to, o.Last)
}
