package libvirt

import (
	"net/netip"
	"strconv"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/firewall"
	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/internal/xmldoc"
	"stavren.example/stavren/render"
)

// hasFilter reports whether libvirt holds the firewalls of a machine: on interfaces on
// its own networks. It knows nothing of QEMU's network in user mode, so the machine
// holds them as well.
func hasFilter(f *fleet.Fleet, m *fleet.Machine) bool {
	return len(m.Firewall) > 0 && hypervisor.HoldsFirewalls(f, "libvirt") &&
		len(usedNetworks(f, []*fleet.Machine{m})) > 0
}

// filterFile renders a machine's filter (formatnwfilter.html). Rules accept what comes
// back to what they accepted.
func filterFile(f *fleet.Fleet, m *fleet.Machine) render.File {
	filter := xmldoc.New("filter", "name", qualified(f, m.Name), "chain", "root").
		Add(xmldoc.Text("uuid", uuid(f.Name, "filter", m.Name)))
	rule := func(action, direction, priority, protocol string, attributes ...string) {
		filter.Add(xmldoc.New("rule", "action", action, "direction", direction, "priority", priority).
			Add(xmldoc.New(protocol, attributes...)))
	}
	const allowed, rest = "500", "900"
	rule("accept", "out", allowed, "all")
	rule("accept", "out", allowed, "all-ipv6")
	// Answers of DHCP servers, and routers and neighbours of IPv6 (RFC 4890, 4.4).
	rule("accept", "in", allowed, "udp", "srcportstart", "67", "dstportstart", "68")
	rule("accept", "in", allowed, "udp-ipv6", "srcportstart", "547", "dstportstart", "546")
	for _, kind := range []int{1, 2, 3, 4, 130, 134, 135, 136} {
		rule("accept", "in", allowed, "icmpv6", "type", strconv.Itoa(kind))
	}
	openings, _ := firewall.Of(f, m, netip.Addr{})
	for _, opening := range openings {
		for _, condition := range conditions(opening) {
			rule("accept", "in", allowed, condition[0], condition[1:]...)
		}
	}
	rule("drop", "in", rest, "all")
	rule("drop", "in", rest, "all-ipv6")
	return render.File{Name: m.Name + "/filter.xml", Data: filter.Encode(), Mode: 0o644}
}

// conditions returns, for each family and source that an opening lets in, an element of
// rules and its attributes.
func conditions(opening firewall.Opening) [][]string {
	name := func(v6 bool) string {
		switch {
		case opening.Protocol == fleet.AnyProtocol && v6:
			return "all-ipv6"
		case opening.Protocol == fleet.AnyProtocol:
			return "all"
		case opening.Protocol == fleet.ICMP && v6:
			return "icmpv6"
		case v6:
			return string(opening.Protocol) + "-ipv6"
		}
		return string(opening.Protocol)
	}
	var ports []string
	if opening.First > 0 {
		ports = []string{"dstportstart", strconv.Itoa(opening.First), "dstportend", strconv.Itoa(opening.Last)}
	}
	if len(opening.From) == 0 {
		return [][]string{append([]string{name(false)}, ports...), append([]string{name(true)}, ports...)}
	}
	var list [][]string
	for _, from := range opening.From {
		words := []string{name(from.Addr().Is6())}
		if from.Bits() > 0 {
			words = append(words, "srcipaddr", from.Masked().Addr().String(), "srcipmask", strconv.Itoa(from.Bits()))
		}
		list = append(list, append(words, ports...))
	}
	return list
}
