package sizing

import (
	"sync"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

// Market is what a platform sells.
type Market struct {
	// Name is the platform's name, as definitions and price sheets have it.
	Name  string
	Disks Disks
	sizes func() []Size
}

// NewMarket returns a market. sizes is a CSV file as [ReadSizes] reads it, or empty
// if the platform has no public sizes. It is read when sizes are first needed; a
// file with a fault, which a test of each platform finds, counts as empty.
func NewMarket(name, sizes string, disks Disks) *Market {
	return &Market{Name: name, Disks: disks, sizes: sync.OnceValue(func() []Size {
		if sizes == "" {
			return nil
		}
		list, err := ReadSizes([]byte(sizes))
		if err != nil {
			return nil
		}
		return list
	})}
}

// Sizes returns the public sizes.
func (m *Market) Sizes() []Size { return m.sizes() }

// SizesFor returns the sizes for a fleet: those that the definition lists, or the
// public ones.
func (m *Market) SizesFor(f *fleet.Fleet) []Size {
	given := f.Platform(m.Name)
	if given == nil || len(given.Sizes) == 0 {
		return m.sizes()
	}
	var sizes []Size
	for _, size := range given.Sizes {
		sizes = append(sizes, Size{Name: size.Name, CPUs: size.CPUs, Memory: size.Memory, Disk: size.Disk,
			Arch: size.Arch})
	}
	return sizes
}

// Names returns the names of the sizes for a fleet.
func (m *Market) Names(f *fleet.Fleet) []string {
	var names []string
	for _, size := range m.SizesFor(f) {
		names = append(names, size.Name)
	}
	return names
}

// Disks are a platform's rules for the sizes of disks.
type Disks struct {
	// Min is the smallest disk. Sizes are multiples of Step.
	Min, Step fleet.Bytes
	// MinRoot and MinWindowsRoot are the smallest root disks of Windows and of all
	// other systems, if larger than Min.
	MinRoot, MinWindowsRoot fleet.Bytes
	// FixedRoot says that a machine's root disk is always that of its size.
	FixedRoot bool
}

// Round returns the size of the smallest disk that the platform sells for a disk of
// a machine with some system.
func (d Disks) Round(system catalog.System, disk *fleet.Disk) fleet.Bytes {
	least := d.Min
	switch {
	case !disk.IsRoot():
	case system.Family.Class() == catalog.ClassWindows:
		least = max(least, d.MinWindowsRoot)
	default:
		least = max(least, d.MinRoot)
	}
	return (max(disk.Size, least) + d.Step - 1) / d.Step * d.Step
}
