// Package offer says which sizes of a platform satisfy a machine, and what they
// cost by a price sheet.
package sizing

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/nearest"
)

// Offer is one size that satisfies a machine.
type Offer struct {
	Size catalog.Size
	// CPUs and Memory are what the machine gets: the size's, or of a flexible
	// size what comes closest to what was asked.
	CPUs   int
	Memory fleet.Bytes
	// OwnDisk says that the size's own disk is too small for the root disk, so
	// that one of its own has to be bought, on platforms that sell such.
	OwnDisk bool
	// Hourly is the price of an hour with disks and public address; Known says
	// that the sheet has every price that goes into it.
	Hourly Price
	Known  bool
}

// NoFitError says that no size of a platform satisfies a machine.
type NoFitError struct {
	Machine, Platform string
	// Nearest is the size that lacks least, and Lacks what it lacks in words; it
	// is nil where the platform has no size at all for the architecture.
	Nearest *catalog.Size
	Lacks   string
}

func (e *NoFitError) Error() string {
	if e.Nearest == nil {
		return fmt.Sprintf("%s has no size for machine %s", e.Platform, e.Machine)
	}
	return fmt.Sprintf("no size of %s satisfies machine %s; the nearest is %s, which lacks %s", e.Platform, e.Machine, e.Nearest.Name, e.Lacks)
}

// Sizes returns a platform's sizes for a fleet: those that the definition lists,
// or the public ones.
func Sizes(f *fleet.Fleet, platform string) []catalog.Size {
	if said := f.Platform(platform); said != nil && len(said.Sizes) > 0 {
		var sizes []catalog.Size
		for _, size := range said.Sizes {
			sizes = append(sizes, catalog.Size{Name: size.Name, CPUs: size.CPUs, Memory: size.Memory, Disk: size.Disk, Arch: size.Arch})
		}
		return sizes
	}
	return catalog.Sizes(platform)
}

// For returns the offers of a platform that satisfy a machine: the cheapest first
// where the sheet prices them, else the closest.
func For(f *fleet.Fleet, m *fleet.Machine, platform string, sheet *Sheet) ([]Offer, error) {
	sizes := Sizes(f, platform)
	arch := archOf(f, m)
	var offers []Offer
	for _, size := range sizes {
		if o, fits := fit(m, arch, size, platform); fits {
			o.Hourly, o.Known = sheet.price(f, m, platform, o)
			offers = append(offers, o)
		}
	}
	if len(offers) == 0 {
		return nil, noFit(m, arch, platform, sizes)
	}
	slices.SortStableFunc(offers, func(a, b Offer) int {
		if a.Known != b.Known {
			if a.Known {
				return -1
			}
			return 1
		}
		if a.Known && a.Hourly != b.Hourly {
			return cmp.Compare(a.Hourly, b.Hourly)
		}
		return cmp.Compare(a.excess(m), b.excess(m))
	})
	return offers, nil
}

// Choose returns the size that a machine gets on a platform: the one that the
// machine or the platform names, or the first of [For].
func Choose(f *fleet.Fleet, m *fleet.Machine, platform string, sheet *Sheet) (o Offer, named bool, err error) {
	name := Named(f, m, platform)
	if name == "" {
		offers, err := For(f, m, platform, sheet)
		if err != nil {
			return Offer{}, false, err
		}
		return offers[0], false, nil
	}
	var known []string
	for _, size := range Sizes(f, platform) {
		known = append(known, size.Name)
		if size.Name != name {
			continue
		}
		o, fits := fit(m, archOf(f, m), size, platform)
		if !fits {
			return Offer{}, true, &NoFitError{m.Name, platform, &size, lacks(m, archOf(f, m), size, platform)}
		}
		o.Hourly, o.Known = sheet.price(f, m, platform, o)
		return o, true, nil
	}
	return Offer{}, true, fmt.Errorf("%s has no size %q; %s", platform, name, nearest.Remedy(name, known))
}

// Named is the size that a definition names for a machine, or empty.
func Named(f *fleet.Fleet, m *fleet.Machine, platform string) string {
	for _, said := range m.Platforms {
		if said.Name == platform && said.Size != "" {
			return said.Size
		}
	}
	if said := f.Platform(platform); said != nil {
		return said.Size
	}
	return ""
}

func archOf(f *fleet.Fleet, m *fleet.Machine) string {
	if image := f.Image(m.Image); image != nil {
		return image.Arch
	}
	return fleet.DefaultArch
}

// fixedDisk reports whether a platform's machines have the disk of their size
// and no other as their root disk.
func fixedDisk(platform string) bool { return platform == "droplet" }

func fit(m *fleet.Machine, arch string, size catalog.Size, platform string) (Offer, bool) {
	o := Offer{Size: size, CPUs: size.CPUs, Memory: size.Memory}
	if size.Flexible() {
		o.CPUs = max(size.CPUs, m.Resources.CPUs)
		if arch == "amd64" {
			o.CPUs += o.CPUs % 2 // one of the platform's processors is two threads
		}
		o.Memory = max(size.Memory, (m.Resources.Memory+fleet.GiB-1)/fleet.GiB*fleet.GiB, fleet.Bytes(processors(o.CPUs, arch))*fleet.GiB)
	}
	o.OwnDisk = size.Disk > 0 && size.Disk < m.Disks[0].Size
	return o, lacks(m, arch, size, platform) == ""
}

// processors counts the platform's own processors of a flexible size.
func processors(cpus int, arch string) int {
	if arch == "amd64" {
		return (cpus + 1) / 2
	}
	return cpus
}

// lacks says in words what a size does not give a machine, or nothing.
func lacks(m *fleet.Machine, arch string, size catalog.Size, platform string) string {
	cpus, memory := max(size.CPUs, size.MaxCPUs), max(size.Memory, size.MaxMemory)
	switch {
	case size.Arch != "" && size.Arch != arch:
		return "the architecture " + arch
	case cpus < m.Resources.CPUs:
		return fmt.Sprintf("cpus: %d of %d", cpus, m.Resources.CPUs)
	case memory < m.Resources.Memory:
		return fmt.Sprintf("memory: %v of %v", memory, m.Resources.Memory)
	case fixedDisk(platform) && size.Disk < m.Disks[0].Size:
		return fmt.Sprintf("disk: %v of %v", size.Disk, m.Disks[0].Size)
	}
	return ""
}

// excess is how much more than asked an offer gives, as a share of what was
// asked; 0 is an exact fit.
func (o Offer) excess(m *fleet.Machine) float64 {
	return float64(o.CPUs)/float64(m.Resources.CPUs) + float64(o.Memory)/float64(m.Resources.Memory) - 2
}

// noFit finds the size that lacks least.
func noFit(m *fleet.Machine, arch, platform string, sizes []catalog.Size) error {
	e := &NoFitError{Machine: m.Name, Platform: platform}
	best := -1.0
	for _, size := range sizes {
		if size.Arch != "" && size.Arch != arch {
			continue
		}
		share := min(1, float64(max(size.CPUs, size.MaxCPUs))/float64(m.Resources.CPUs)) * min(1, float64(max(size.Memory, size.MaxMemory))/float64(m.Resources.Memory))
		if fixedDisk(platform) {
			share *= min(1, float64(size.Disk)/float64(m.Disks[0].Size))
		}
		if share > best {
			best = share
			e.Nearest, e.Lacks = &size, lacks(m, arch, size, platform)
		}
	}
	return e
}

// Waste says what an offer gives beyond what was asked, such as "+1 cpu, +2GiB",
// or nothing.
func (o Offer) Waste(m *fleet.Machine) string {
	var more []string
	if extra := o.CPUs - m.Resources.CPUs; extra == 1 {
		more = append(more, "+1 cpu")
	} else if extra > 1 {
		more = append(more, fmt.Sprintf("+%d cpus", extra))
	}
	if extra := o.Memory - m.Resources.Memory; extra > 0 {
		more = append(more, fmt.Sprintf("+%v", extra))
	}
	return strings.Join(more, ", ")
}
