package qemu

import (
	"crypto/sha256"
	"fmt"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/quote"
	"stavren.example/stavren/internal/targets/hypervisor"
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
			var ports []*fleet.Port
			if nic == forwarding {
				ports = m.Ports
			}
			value, host, err := hypervisor.UserNetwork(network, m, nic, fmt.Sprintf("net%d", i), ports)
			if err != nil {
				return err
			}
			netdev = value
			if nic == forwarding {
				r.HostAddress = host.String()
			}
		}
		r.option("-netdev", netdev)
		model := modelOf(hypervisor.ModelOf(f, m, nic))
		r.option("-device", fmt.Sprintf("%s,netdev=net%d,mac=%s", model, i, nic.HardwareAddress))
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
