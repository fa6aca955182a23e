package hypervisor

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/quote"
)

// UserNetwork renders a nat network as the value of QEMU's option -netdev: its network
// in user mode, which needs no rights on the host, with the ports that it forwards. id
// names it. It also returns the host's address as the machine sees it.
func UserNetwork(network *fleet.Network, m *fleet.Machine, nic *fleet.NIC, id string,
	ports []*fleet.Port) (value string, host netip.Addr, err error) {
	plan, err := planUserNetwork(network, nic.Address)
	if err != nil {
		return "", netip.Addr{}, err
	}
	options := []string{
		"user,id=" + id,
		"net=" + network.Subnet.String(),
		"host=" + plan.host.String(),
		"dns=" + plan.dns.String(),
		"dhcpstart=" + plan.machine.String(),
		"hostname=" + quote.QEMU(m.HostName),
	}
	for _, domain := range network.Search {
		options = append(options, "dnssearch="+quote.QEMU(domain))
	}
	for _, port := range ports {
		options = append(options, fmt.Sprintf("hostfwd=%s:%s:%d-%s:%d", port.Protocol, port.Listen, port.Host,
			plan.machine, port.Machine))
	}
	return strings.Join(options, ","), plan.host, nil
}

// hostOf returns the address under which a machine sees the host that forwards its
// ports, or none.
func hostOf(f *fleet.Fleet, m *fleet.Machine) netip.Addr {
	nic := f.ForwardingNIC(m)
	if nic == nil {
		return netip.Addr{}
	}
	plan, err := planUserNetwork(f.Network(nic.Network), nic.Address)
	if err != nil {
		return netip.Addr{} // rendering the network reports it
	}
	return plan.host
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
