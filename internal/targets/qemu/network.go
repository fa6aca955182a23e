package qemu

import (
	"crypto/sha256"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/quote"
)

// modelOf returns QEMU's name of a network interface.
func modelOf(model fleet.NICModel) string {
	if model == fleet.E1000 {
		return "e1000"
	}
	return "virtio-net-pci"
}

// networks attaches the interfaces. Ports are forwarded through the first one on a
// nat network.
func (r *run) networks(f *fleet.Fleet, m *fleet.Machine) error {
	forwarding := f.ForwardingNIC(m)
	for i, nic := range m.NICs {
		network := f.Network(nic.Network)
		if network == nil {
			return fmt.Errorf("network %q is not defined", nic.Network)
		}
		var netdev string
		switch network.Mode {
		case fleet.Bridged:
			netdev = fmt.Sprintf("bridge,id=net%d,br=%s", i, quote.QEMU(bridgeOf(network)))
		case fleet.HostOnly, fleet.Isolated:
			netdev = segment(f, network, i)
		default:
			var err error
			if netdev, err = userNetwork(network, m, nic, i, nic == forwarding); err != nil {
				return err
			}
			if plan, err := planUserNetwork(network, nic.Address); err == nil && nic == forwarding {
				r.HostAddress = plan.host.String()
			}
		}
		r.option("-netdev", netdev)
		r.option("-device", fmt.Sprintf("%s,netdev=net%d,mac=%s", modelOf(nic.Model), i, nic.HardwareAddress))
	}
	return nil
}

// bridgeOf returns the host's bridge, by default that of QEMU's helper.
func bridgeOf(network *fleet.Network) string {
	if network.Bridge == "" {
		return "br0"
	}
	return network.Bridge
}

// segment connects machines through datagrams to a multicast group on the host's
// loopback, which needs no rights and no daemon. Every machine of the same fleet and
// network is in the group, whose address is in the block for private use (RFC 2365).
func segment(f *fleet.Fleet, network *fleet.Network, at int) string {
	sum := sha256.Sum256([]byte("segment\x00" + f.Name + "\x00" + network.Name + "\x00"))
	port := 32768 + (int(sum[3])<<8|int(sum[4]))%16384
	return fmt.Sprintf("socket,id=net%d,mcast=239.%d.%d.%d:%d,localaddr=127.0.0.1", at, 192+sum[0]%64, sum[1], sum[2],
		port)
}

// userNetwork renders a nat network as QEMU's user-mode network, which needs no
// rights on the host.
func userNetwork(network *fleet.Network, m *fleet.Machine, nic *fleet.NIC, at int, forwards bool) (string, error) {
	plan, err := planUserNetwork(network, nic.Address)
	if err != nil {
		return "", err
	}
	options := []string{
		fmt.Sprintf("user,id=net%d", at),
		"net=" + network.Subnet.String(),
		"host=" + plan.host.String(),
		"dns=" + plan.dns.String(),
		"dhcpstart=" + plan.machine.String(),
		"hostname=" + quote.QEMU(m.HostName),
	}
	for _, domain := range network.Search {
		options = append(options, "dnssearch="+quote.QEMU(domain))
	}
	if forwards {
		for _, port := range m.Ports {
			options = append(options, fmt.Sprintf("hostfwd=%s:%s:%d-%s:%d", port.Protocol, port.Listen, port.Host,
				plan.machine, port.Machine))
		}
	}
	return strings.Join(options, ","), nil
}

// userPlan has the addresses of a user-mode network.
type userPlan struct {
	// host and dns are QEMU's own two addresses. It answers for both, and either one
	// routes, but they must differ.
	host, dns netip.Addr
	// machine is the fixed address, or the one that DHCP assigns.
	machine netip.Addr
}

// planUserNetwork gives the gateway's address to QEMU's name server if the machine's
// name server is the gateway, and otherwise to QEMU's router, so that the definition
// is true inside the machine.
func planUserNetwork(network *fleet.Network, fixed netip.Addr) (userPlan, error) {
	taken := map[netip.Addr]bool{
		network.Gateway: true, fixed: true,
		network.Subnet.Addr(): true, fleet.Broadcast(network.Subnet): true,
	}
	free := func(after netip.Addr) (netip.Addr, error) {
		for addr := after.Next(); network.Subnet.Contains(addr); addr = addr.Next() {
			if !taken[addr] {
				taken[addr] = true
				return addr, nil
			}
		}
		return netip.Addr{}, fmt.Errorf("subnet %v of network %s has too few addresses: QEMU takes two beside the "+
			"machine's", network.Subnet, network.Name)
	}
	other, err := free(network.Subnet.Addr())
	if err != nil {
		return userPlan{}, err
	}
	plan := userPlan{host: network.Gateway, dns: other, machine: fixed}
	if slices.Contains(network.DNS, network.Gateway) {
		plan.host, plan.dns = other, network.Gateway
	}
	if !fixed.IsValid() {
		if plan.machine, err = free(network.Subnet.Addr()); err != nil {
			return userPlan{}, err
		}
	}
	return plan, nil
}
