package stavren

import (
	"fmt"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/sizing"
)

// Offer is one size of a platform that satisfies a machine, and what it costs.
type Offer = sizing.Offer

// Prices is a price sheet.
type Prices = sizing.Sheet

// Price is an amount of money in millionths of a unit of its currency.
type Price = sizing.Price

// HoursAMonth is what a month counts in prices.
const HoursAMonth = sizing.HoursAMonth

// ReadPrices reads a price sheet: CSV with the columns platform, item, price and
// currency, as docs/howto.md describes.
func ReadPrices(data []byte) (*Prices, error) { return sizing.ReadSheet(data) }

// Platforms returns the clouds that have sizes, by their target names.
func Platforms() []string {
	var names []string
	for _, platform := range catalog.Platforms() {
		names = append(names, platform.Name)
	}
	return names
}

// Fit returns the sizes of a platform that satisfy a machine: the cheapest first
// where the sheet, which may be nil, knows all prices, else the closest. Nothing
// fits: an error that names the nearest.
func Fit(f *fleet.Fleet, m *fleet.Machine, platform string, prices *Prices) ([]Offer, error) {
	if _, known := catalog.LookupPlatform(platform); !known {
		return nil, fmt.Errorf("%s is no platform with sizes", platform)
	}
	return sizing.For(f, m, platform, prices)
}

// Choose returns the size that rendering takes for a machine: the one that the
// definition names, or the first of [Fit].
func Choose(f *fleet.Fleet, m *fleet.Machine, platform string, prices *Prices) (o Offer, named bool, err error) {
	return sizing.Choose(f, m, platform, prices)
}

// UseSizes replaces a platform's public sizes in a fleet by those of a CSV file
// with the columns name, cpus, memory, arch and disk. Sizes that the definition
// lists itself are replaced too.
func UseSizes(f *fleet.Fleet, platform string, data []byte) error {
	sizes, err := catalog.ReadSizes(data)
	if err != nil {
		return err
	}
	said := f.Platform(platform)
	if said == nil {
		said = &fleet.Platform{Name: platform}
		f.Platforms = append(f.Platforms, said)
	}
	said.Sizes = nil
	for _, size := range sizes {
		if size.Flexible() {
			return fmt.Errorf("size %q: a list of one's own has no flexible sizes", size.Name)
		}
		said.Sizes = append(said.Sizes, &fleet.Size{Name: size.Name, CPUs: size.CPUs, Memory: size.Memory, Disk: size.Disk, Arch: size.Arch})
	}
	return nil
}
