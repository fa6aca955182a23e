package load

import (
	"fmt"
	"math"
	"net/netip"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
)

// longestName is the longest name of a machine in characters: a DNS label.
const longestName = 63

// copies makes the machines of a definition with copies. Addresses and host ports
// that are given belong to the first copy; the others count up from there.
func copies(m *fleet.Machine, faults *document.Faults) []*fleet.Machine {
	machines := make([]*fleet.Machine, m.Copies)
	for i := range machines {
		c := m.Clone()
		c.Name = fmt.Sprintf("%s-%d", m.Name, i+1)
		if len(c.Name) > longestName && i == 0 {
			faults.AddAt(document.BadName, m.PlaceOf(fleet.Itself),
				document.Quoted(c.Name)+" is too long for the name of a copy",
				"shorten the machine's name")
		}
		if c.HostName != "" {
			c.HostName = fmt.Sprintf("%s-%d", m.HostName, i+1)
		}
		countAddresses(c, i)
		for _, port := range c.Ports {
			if port.Auto || port.Host == 0 {
				continue
			}
			if port.Host += i; port.Host > math.MaxUint16 {
				faults.AddAt(document.OutOfRange, port.PlaceOf("host"),
					fmt.Sprintf("counting up from the first copy, port %s of %s would be %d", port.Name, c.Name,
						port.Host),
					"start lower, or write host: auto")
				return machines[:i]
			}
		}
		if c.Console.Port > 0 && !c.Console.Auto {
			c.Console.Port = min(c.Console.Port+i, math.MaxUint16)
		}
		machines[i] = c
	}
	return machines
}

// countAddresses gives a copy, counted from 0, its addresses.
func countAddresses(c *fleet.Machine, i int) {
	for _, nic := range c.NICs {
		if nic.Address.IsValid() {
			nic.Address = countUp(nic.Address, i)
		}
		if nic.HardwareAddress != "" && i > 0 {
			nic.HardwareAddress = "" // each copy gets a derived one
			nic.ClearOrigin("hardware_address")
		}
		for j, also := range nic.Also {
			nic.Also[j] = netip.PrefixFrom(countUp(also.Addr(), i), also.Bits())
		}
	}
}

// countUp returns the n-th address after one, or the last address there is. The
// checks find an address that is used twice.
func countUp(addr netip.Addr, n int) netip.Addr {
	for range n {
		if next := addr.Next(); next.IsValid() {
			addr = next
		}
	}
	return addr
}
