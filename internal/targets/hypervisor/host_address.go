package hypervisor

import (
	"net/netip"

	"stavren.example/stavren/fleet"
)

// HostAddress returns the host's address on a network: that of the gateway, or the first
// that no machine has. A network without a subnet has none.
func HostAddress(f *fleet.Fleet, network *fleet.Network) netip.Addr {
	if network.Gateway.IsValid() {
		return network.Gateway
	}
	taken := map[netip.Addr]bool{}
	for _, at := range f.OnNetwork(network.Name) {
		taken[f.Assigned(at.NIC)] = true
	}
	for addr := network.Subnet.Masked().Addr().Next(); network.Subnet.Contains(addr); addr = addr.Next() {
		if !taken[addr] {
			return addr
		}
	}
	return netip.Addr{}
}
