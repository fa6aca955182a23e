package cloud

import "net/netip"

// Reserves reports whether an address is one of the first of a subnet, counted from the
// network's own, which platforms take for themselves.
func Reserves(subnet netip.Prefix, addr netip.Addr, first int) bool {
	reserved := subnet.Masked().Addr()
	for range first {
		if addr == reserved {
			return true
		}
		reserved = reserved.Next()
	}
	return false
}
