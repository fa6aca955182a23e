package hypervisor

import (
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

// BareWindows reports whether a machine runs a Windows without drivers for virtio: it
// sees SATA and e1000, and no virtio device.
func BareWindows(f *fleet.Fleet, m *fleet.Machine) bool {
	return IsWindows(f, m) && !f.Image(m.Image).HasDriver(fleet.VirtIODriver)
}

// IsWindows reports whether a machine runs Windows. Its drives are on SATA, for which
// each has a driver, while the kernels of Linux's cloud images have one for virtio only.
func IsWindows(f *fleet.Fleet, m *fleet.Machine) bool {
	return catalog.Of(f, m).Family.Class() == catalog.ClassWindows
}

// ModelOf returns the model of an interface: if the definition leaves it open, one that
// the machine's system has a driver for.
func ModelOf(f *fleet.Fleet, m *fleet.Machine, nic *fleet.NIC) fleet.NICModel {
	if nic.IsDefault("model") && BareWindows(f, m) {
		return fleet.E1000
	}
	return nic.Model
}
