package stavren

import (
	"errors"
	"fmt"
	"slices"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/sizing"
	"stavren.example/stavren/internal/targets"
)

// Size is what a platform sells under one name.
type Size struct {
	Name   string
	CPUs   int
	Memory fleet.Bytes
	// Arch is the processor architecture, or empty for any.
	Arch string
	// Disk is the disk that is included, or 0.
	Disk fleet.Bytes
	// MaxCPUs and MaxMemory are the most of a flexible size, which provides any
	// amount from CPUs and Memory up. They are 0 for any other size.
	MaxCPUs   int
	MaxMemory fleet.Bytes
	// Interfaces and DataDisks are the most that a machine of the size has, or 0 if the list
	// of sizes doesn't say.
	Interfaces, DataDisks int
}

// Offer is a size of a platform that satisfies a machine, and what it costs.
type Offer struct {
	Size Size
	// CPUs and Memory are what the machine gets: those of the size, or for a
	// flexible size the closest to what it needs.
	CPUs   int
	Memory fleet.Bytes
	// Unlisted says that the definition names a size that no list has.
	Unlisted bool
	// OwnDisk says that the disk included in the size is too small for the root
	// disk, so that a separate disk has to be bought.
	OwnDisk bool
	// Hourly is the price per hour, including disks and a public address. Known says
	// that the price sheet has every price that is part of it.
	Hourly Price
	Known  bool
}

func newOffer(o sizing.Offer) Offer {
	return Offer{Size(o.Size), o.CPUs, o.Memory, o.Unlisted, o.OwnDisk, Price(o.Hourly), o.Known}
}

// Waste says what the offer provides beyond what a machine needs, such as
// "+1 cpu, +2GiB", or returns "".
func (o Offer) Waste(m *fleet.Machine) string {
	return sizing.Offer{CPUs: o.CPUs, Memory: o.Memory}.Waste(m)
}

// NoFitError reports that no size of a platform satisfies a machine.
type NoFitError struct {
	Machine, Platform string
	// Nearest is the name of the size that lacks least, and Lacks says what it
	// lacks. Both are empty if the platform has no size for the architecture.
	Nearest, Lacks string

	cause *sizing.NoFitError
}

// Error says which machine and platform, and what the nearest size lacks.
func (e *NoFitError) Error() string { return e.cause.Error() }

// Reason says why nothing fits, without naming the machine and the platform.
func (e *NoFitError) Reason() string { return e.cause.Reason() }

func fitError(err error) error {
	var cause *sizing.NoFitError
	if !errors.As(err, &cause) {
		return err
	}
	e := &NoFitError{Machine: cause.Machine, Platform: cause.Platform, Lacks: cause.Lacks, cause: cause}
	if cause.Nearest != nil {
		e.Nearest = cause.Nearest.Name
	}
	return e
}

// Clouds returns the names of the targets for clouds, which sell sizes.
func Clouds() []string {
	var names []string
	for _, target := range targets.Clouds() {
		names = append(names, target.Name)
	}
	return names
}

func marketOf(name string) (*sizing.Market, error) {
	cloud, ok := targets.Cloud(name)
	if !ok {
		return nil, fmt.Errorf("%s is not a platform with sizes", name)
	}
	return cloud.Market(), nil
}

// Fit returns the sizes of a cloud that satisfy a machine: the cheapest first if the
// price sheet, which may be nil, has all prices, and else the closest. If nothing
// fits, it returns a [NoFitError].
func Fit(f *fleet.Fleet, m *fleet.Machine, cloud string, prices *Prices) ([]Offer, error) {
	market, err := marketOf(cloud)
	if err != nil {
		return nil, err
	}
	found, err := sizing.Fit(f, m, market, prices.sheet())
	if err != nil {
		return nil, fitError(err)
	}
	offers := make([]Offer, len(found))
	for i, o := range found {
		offers[i] = newOffer(o)
	}
	return offers, nil
}

// Choose returns the size that rendering gives a machine: the one that the
// definition names, or the first of [Fit].
func Choose(f *fleet.Fleet, m *fleet.Machine, cloud string, prices *Prices) (o Offer, named bool, err error) {
	market, err := marketOf(cloud)
	if err != nil {
		return Offer{}, false, err
	}
	chosen, named, err := sizing.Choose(f, m, market, prices.sheet())
	if err != nil {
		return Offer{}, named, fitError(err)
	}
	return newOffer(chosen), named, nil
}

// FleetFit is what clouds offer to the machines of a fleet.
type FleetFit struct {
	// Machines lists groups of machines that need the same.
	Machines []MachineFit
	// Totals has one entry per cloud.
	Totals []FitTotal
}

// MachineFit is what clouds offer to machines that need the same.
type MachineFit struct {
	Machines []*fleet.Machine
	Arch     string
	// Clouds has one entry per cloud.
	Clouds []CloudFit
}

// CloudFit is what one cloud offers to a machine.
type CloudFit struct {
	Cloud string
	// Offers starts with the one that rendering chooses. The others follow if all
	// were asked for.
	Offers []Offer
	// Named says that the definition names the first.
	Named bool
	// Missing says why there is no offer, or is empty.
	Missing string
}

// FitTotal is what the machines of a fleet cost on one cloud.
type FitTotal struct {
	Cloud string
	// Machines counts all machines, and Missing those that no size satisfies.
	Machines, Missing int
	// Hourly is the price per hour. Known says that every machine has a price.
	Hourly Price
	Known  bool
}

// FitFleet finds sizes for every machine of a fleet on some clouds. With all, it
// returns every size that satisfies a machine.
func FitFleet(f *fleet.Fleet, clouds []string, prices *Prices, all bool) (FleetFit, error) {
	result := FleetFit{Totals: make([]FitTotal, len(clouds))}
	for i, cloud := range clouds {
		if _, err := marketOf(cloud); err != nil {
			return FleetFit{}, err
		}
		result.Totals[i] = FitTotal{Cloud: cloud, Known: true}
	}
	groups := map[string]int{}
	for _, m := range f.Machines {
		fit := MachineFit{Machines: []*fleet.Machine{m}, Arch: fleet.DefaultArch}
		if image := f.Image(m.Image); image != nil {
			fit.Arch = image.Arch
		}
		for i, cloud := range clouds {
			entry := fitOn(f, m, cloud, prices, all)
			result.Totals[i].add(entry)
			fit.Clouds = append(fit.Clouds, entry)
		}
		key := fmt.Sprint(m.Resources.CPUs, m.Resources.Memory, fit.Arch, fit.Clouds)
		if i, ok := groups[key]; ok {
			result.Machines[i].Machines = append(result.Machines[i].Machines, m)
			continue
		}
		groups[key] = len(result.Machines)
		result.Machines = append(result.Machines, fit)
	}
	return result, nil
}

func fitOn(f *fleet.Fleet, m *fleet.Machine, cloud string, prices *Prices, all bool) CloudFit {
	fit := CloudFit{Cloud: cloud}
	chosen, named, err := Choose(f, m, cloud, prices)
	if err != nil {
		fit.Missing = err.Error()
		if noFit := (*NoFitError)(nil); errors.As(err, &noFit) {
			fit.Missing = noFit.Reason()
		}
		return fit
	}
	fit.Offers, fit.Named = []Offer{chosen}, named
	if !all {
		return fit
	}
	if others, err := Fit(f, m, cloud, prices); err == nil {
		isChosen := func(o Offer) bool { return o.Size.Name == chosen.Size.Name }
		fit.Offers = append(fit.Offers, slices.DeleteFunc(others, isChosen)...)
	}
	return fit
}

func (t *FitTotal) add(fit CloudFit) {
	t.Machines++
	if len(fit.Offers) == 0 {
		t.Missing++
		t.Known = false
		return
	}
	t.Hourly += fit.Offers[0].Hourly
	t.Known = t.Known && fit.Offers[0].Known
}
