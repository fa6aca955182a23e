package qemu

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/quote"
)

// userNetwork renders a nat network as QEMU's user-mode network, which needs no
// rights on the host. Ports are forwarded to the machine's first interface.
func userNetwork(f *fleet.Fleet, m *fleet.Machine, at int) (string, error) {
	nic := m.NICs[at]
	network := f.Network(nic.Network)
	if network == nil {
		return "", fmt.Errorf("network %q is not defined", nic.Network)
	}
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
	if at == 0 {
		for _, port := range m.Ports {
			options = append(options, fmt.Sprintf("hostfwd=%s:%s:%d-%s:%d", port.Protocol, port.Listen, port.Host, plan.machine, port.Machine))
		}
	}
	return strings.Join(options, ","), nil
}

// userPlan says who has which address on a user-mode network.
type userPlan struct {
	// host and dns are QEMU's own two addresses; it answers for both, and either
	// one routes, but they must differ.
	host, dns netip.Addr
	// machine is the fixed address, or the one that DHCP hands out.
	machine netip.Addr
}

// planUserNetwork gives the gateway's address to QEMU's name server if the
// machine looks names up at the gateway, and to QEMU's router otherwise, so
// that what the definition says holds inside the machine.
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
		return netip.Addr{}, fmt.Errorf("subnet %v of network %s has too few addresses: QEMU takes two beside the machine's", network.Subnet, network.Name)
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
