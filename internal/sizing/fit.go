// Package sizing finds the sizes of a platform that satisfy a machine, and what
// they cost according to a price sheet.
package sizing

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
)

// Offer is one size that satisfies a machine.
type Offer struct {
	Size Size
	// CPUs and Memory are what the machine gets: those of the size, or for a
	// flexible size the closest to what it needs.
	CPUs   int
	Memory fleet.Bytes
	// Unlisted says that the definition names a size that no list has. The machine is
	// taken to get what it asks for.
	Unlisted bool
	// OwnDisk says that the disk included in the size is too small for the root
	// disk, so that a separate disk has to be bought.
	OwnDisk bool
	// Hourly is the price per hour, including disks and a public address. Known says
	// that the price sheet has every price that is part of it.
	Hourly Price
	Known  bool
}

// NoFitError reports that no size of a platform satisfies a machine.
type NoFitError struct {
	Machine, Platform string
	// Nearest is the size that lacks least, and Lacks says what it lacks. Nearest is
	// nil if the platform has no size at all for the architecture.
	Nearest *Size
	Lacks   string
}

// Error says which machine and platform, and what the nearest size lacks.
func (e *NoFitError) Error() string {
	if e.Nearest == nil {
		return fmt.Sprintf("%s has no size for machine %s", e.Platform, e.Machine)
	}
	return fmt.Sprintf("no size of %s satisfies machine %s; %s", e.Platform, e.Machine, e.Reason())
}

// Reason says why nothing fits, without naming machine and platform.
func (e *NoFitError) Reason() string {
	if e.Nearest == nil {
		return "no size for its architecture"
	}
	return fmt.Sprintf("the nearest is %s, which lacks %s", e.Nearest.Name, e.Lacks)
}

// Fit returns the offers of a platform that satisfy a machine: the cheapest first
// if the price sheet, which may be nil, has all prices, and else the closest.
func Fit(f *fleet.Fleet, m *fleet.Machine, market *Market, prices *Prices) ([]Offer, error) {
	sizes := market.SizesFor(f)
	arch := archOf(f, m)
	var offers []Offer
	for _, size := range sizes {
		if o, ok := offer(m, arch, size, market); ok {
			o.Hourly, o.Known = prices.hourly(f, m, market, o)
			offers = append(offers, o)
		}
	}
	if len(offers) == 0 {
		return nil, noFit(m, arch, market, sizes)
	}
	slices.SortStableFunc(offers, func(a, b Offer) int {
		switch {
		case a.Known && !b.Known:
			return -1
		case b.Known && !a.Known:
			return 1
		case a.Known && a.Hourly != b.Hourly:
			return cmp.Compare(a.Hourly, b.Hourly)
		}
		return cmp.Compare(a.excess(m), b.excess(m))
	})
	return offers, nil
}

// Choose returns the size that a machine gets on a platform: the one that the
// machine or the platform's settings name, or the first of [Fit].
func Choose(f *fleet.Fleet, m *fleet.Machine, market *Market, prices *Prices) (o Offer, named bool, err error) {
	name := Named(f, m, market.Name)
	if name == "" {
		offers, err := Fit(f, m, market, prices)
		if err != nil {
			return Offer{}, false, err
		}
		return offers[0], false, nil
	}
	for _, size := range market.SizesFor(f) {
		if size.Name != name {
			continue
		}
		o, ok := offer(m, archOf(f, m), size, market)
		if !ok {
			return Offer{}, true, &NoFitError{m.Name, market.Name, &size, lack(m, archOf(f, m), size, market)}
		}
		o.Hourly, o.Known = prices.hourly(f, m, market, o)
		return o, true, nil
	}
	return Offer{Size: Size{Name: name, Arch: archOf(f, m), CPUs: m.Resources.CPUs, Memory: m.Resources.Memory},
		CPUs: m.Resources.CPUs, Memory: m.Resources.Memory, Unlisted: true}, true, nil
}

// Named returns the size that a definition names for a machine, or "".
func Named(f *fleet.Fleet, m *fleet.Machine, platform string) string {
	for _, given := range m.Platforms {
		if given.Name == platform && given.Size != "" {
			return given.Size
		}
	}
	if given := f.Platform(platform); given != nil {
		return given.Size
	}
	return ""
}

func archOf(f *fleet.Fleet, m *fleet.Machine) string {
	if image := f.Image(m.Image); image != nil {
		return image.Arch
	}
	return fleet.DefaultArch
}

// offer returns what a machine gets from a size, and whether that is enough.
func offer(m *fleet.Machine, arch string, size Size, market *Market) (Offer, bool) {
	o := Offer{Size: size, CPUs: size.CPUs, Memory: size.Memory}
	if size.Flexible() {
		o.CPUs = max(size.CPUs, m.Resources.CPUs)
		if arch == "amd64" {
			o.CPUs += o.CPUs % 2 // one of the platform's processors is two threads
		}
		o.CPUs = max(o.CPUs, fewestCPUs(m.Resources.Memory, arch))
		wanted := (m.Resources.Memory + fleet.GiB - 1) / fleet.GiB * fleet.GiB
		o.Memory = max(size.Memory, wanted, fleet.Bytes(processors(o.CPUs, arch))*fleet.GiB)
	}
	o.OwnDisk = size.Disk > 0 && size.Disk < m.Disks[0].Size
	return o, lack(m, arch, size, market) == ""
}

// mostMemory is how much memory a flexible size has for each of its processors
// (docs.oracle.com, "Flexible Shapes").
const mostMemory = 64 * fleet.GiB

// fewestCPUs returns how many cpus a flexible size needs to have some memory.
func fewestCPUs(memory fleet.Bytes, arch string) int {
	count := int((memory + mostMemory - 1) / mostMemory)
	if arch == "amd64" {
		count *= 2
	}
	return count
}

// processors returns the number of the platform's own processors in a flexible size.
func processors(cpus int, arch string) int {
	if arch == "amd64" {
		return (cpus + 1) / 2
	}
	return cpus
}

// lack says what a size lacks for a machine, or returns "".
func lack(m *fleet.Machine, arch string, size Size, market *Market) string {
	cpus, memory := max(size.CPUs, size.MaxCPUs), max(size.Memory, size.MaxMemory)
	switch {
	case size.Arch != "" && size.Arch != arch:
		return "the architecture " + arch
	case cpus < m.Resources.CPUs:
		return fmt.Sprintf("cpus: %d of %d", cpus, m.Resources.CPUs)
	case memory < m.Resources.Memory:
		return fmt.Sprintf("memory: %v of %v", memory, m.Resources.Memory)
	case market.Disks.FixedRoot && size.Disk < m.Disks[0].Size:
		return fmt.Sprintf("disk: %v of %v", size.Disk, m.Disks[0].Size)
	case size.Interfaces > 0 && size.Interfaces < len(m.NICs):
		return fmt.Sprintf("interfaces: %d of %d", size.Interfaces, len(m.NICs))
	case size.DataDisks > 0 && size.DataDisks < len(m.Disks)-1:
		return fmt.Sprintf("data disks: %d of %d", size.DataDisks, len(m.Disks)-1)
	}
	return ""
}

// excess returns how much more than needed an offer provides, as a share of what is
// needed. An exact fit has 0.
func (o Offer) excess(m *fleet.Machine) float64 {
	return float64(o.CPUs)/float64(m.Resources.CPUs) + float64(o.Memory)/float64(m.Resources.Memory) - 2
}

// noFit finds the size that lacks least.
func noFit(m *fleet.Machine, arch string, market *Market, sizes []Size) error {
	share := func(has, needed int64) float64 { return min(1, float64(has)/float64(needed)) }
	e := &NoFitError{Machine: m.Name, Platform: market.Name}
	best := -1.0
	for _, size := range sizes {
		if size.Arch != "" && size.Arch != arch {
			continue
		}
		total := share(int64(max(size.CPUs, size.MaxCPUs)), int64(m.Resources.CPUs)) *
			share(int64(max(size.Memory, size.MaxMemory)), int64(m.Resources.Memory))
		if market.Disks.FixedRoot {
			total *= share(int64(size.Disk), int64(m.Disks[0].Size))
		}
		if total > best {
			best = total
			e.Nearest, e.Lacks = &size, lack(m, arch, size, market)
		}
	}
	return e
}

// Waste says what an offer provides beyond what the machine needs, such as
// "+1 cpu, +2GiB", or returns "".
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
