package stavren

import (
	"fmt"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/sizing"
)

// Prices is a price sheet. A nil sheet has no prices.
type Prices struct {
	// About is the first comment of the file. Every table of prices shows it.
	About    string
	Currency string

	prices *sizing.Prices
}

func (p *Prices) sheet() *sizing.Prices {
	if p == nil {
		return nil
	}
	return p.prices
}

// Price is an amount of money, in millionths of a unit of its currency.
type Price int64

// String returns the price with two decimals, or with four if it is below 1.
func (p Price) String() string { return sizing.Price(p).String() }

// HoursPerMonth is how many hours a month has in prices: a twelfth of a year.
const HoursPerMonth = sizing.HoursPerMonth

// ReadPrices reads a price sheet: CSV with the columns platform, item, price and
// currency, as docs/howto.md describes.
func ReadPrices(data []byte) (*Prices, error) {
	prices, err := sizing.ReadPrices(data)
	if err != nil {
		return nil, err
	}
	return &Prices{About: prices.About, Currency: prices.Currency, prices: prices}, nil
}

// Unknown returns a sentence for each line of the sheet that prices nothing which a cloud
// sells to the fleet, with the nearest name: "line 7: gce has no size or item "e2-smal"; did
// you mean "e2-small"?".
func (p *Prices) Unknown(f *fleet.Fleet) []string {
	var markets []*sizing.Market
	for _, cloud := range Clouds() {
		if market, err := marketOf(cloud); err == nil {
			markets = append(markets, market)
		}
	}
	return p.sheet().Unknown(f, markets)
}

// UseSizes replaces a cloud's sizes in a fleet by those of a CSV file with the
// columns name, cpus, memory, arch and disk. It also replaces sizes that the
// definition lists.
func UseSizes(f *fleet.Fleet, cloud string, data []byte) error {
	sizes, err := sizing.ReadSizes(data)
	if err != nil {
		return err
	}
	platform := f.Platform(cloud)
	if platform == nil {
		platform = &fleet.Platform{Name: cloud}
		f.Platforms = append(f.Platforms, platform)
	}
	platform.Sizes = nil
	for _, size := range sizes {
		if size.Flexible() {
			return fmt.Errorf("size %q: sizes of your own can't be flexible", size.Name)
		}
		platform.Sizes = append(platform.Sizes,
			&fleet.Size{Name: size.Name, CPUs: size.CPUs, Memory: size.Memory, Disk: size.Disk, Arch: size.Arch})
	}
	return nil
}
