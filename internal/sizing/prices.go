package sizing

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

// Price is an amount of money in millionths of a unit of its currency.
type Price int64

// HoursPerMonth is how many hours a month has in prices: a twelfth of a year.
const HoursPerMonth = 730

// String returns the price with two decimals, or with four if it is below 1.
func (p Price) String() string {
	if p < 1_000_000 {
		return strconv.FormatFloat(float64(p)/1e6, 'f', 4, 64)
	}
	return strconv.FormatFloat(float64(p)/1e6, 'f', 2, 64)
}

// Prices is a price sheet. A nil sheet has no prices.
type Prices struct {
	// About is the first comment of the file. Every table of prices shows it.
	About    string
	Currency string
	prices   map[item]Price
	// lines are the lines of the items in the sheet.
	lines map[item]int
}

type item struct{ platform, name string }

// Items beside the names of sizes.
const (
	disk          = "disk"           // per GiB of disk and month
	fastDisk      = "fast-disk"      // per GiB of fast disk and month
	publicAddress = "public-address" // per public address and hour
	flexibleCPU   = " cpu"           // after a flexible size: per processor and hour
	flexibleGiB   = " GiB"           // after a flexible size: per GiB of memory and hour
)

// ReadPrices reads a price sheet: CSV with the columns platform, item, price and
// currency. An item is a size, per hour; `disk` or `fast-disk`, per GiB and month;
// or `public-address`, per hour. A flexible size has two items: its name followed by
// " cpu", and by " GiB". Errors name the line.
func ReadPrices(data []byte) (*Prices, error) {
	sheet := &Prices{prices: map[item]Price{}, lines: map[item]int{}}
	for _, line := range strings.Split(string(data), "\n") {
		if text, ok := strings.CutPrefix(line, "#"); ok {
			sheet.About = strings.TrimSpace(text)
			break
		}
	}
	reader := csv.NewReader(bytes.NewReader(data))
	reader.Comment = '#'
	reader.TrimLeadingSpace = true
	header, err := reader.Read()
	if err != nil || strings.Join(header, ",") != "platform,item,price,currency" {
		return nil, errors.New("the first line must be platform,item,price,currency")
	}
	for {
		row, err := reader.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		line, _ := reader.FieldPos(0)
		price, err := parsePrice(row[2])
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", line, err)
		}
		if row[3] == "" || sheet.Currency != "" && row[3] != sheet.Currency {
			return nil, fmt.Errorf("line %d: the currency is %q, but %q above; a sheet has only one currency", line,
				row[3], sheet.Currency)
		}
		sheet.Currency = row[3]
		key := item{row[0], row[1]}
		if _, exists := sheet.prices[key]; exists {
			return nil, fmt.Errorf("line %d: %s of %s already has a price", line, row[1], row[0])
		}
		sheet.prices[key], sheet.lines[key] = price, line
	}
	if len(sheet.prices) == 0 {
		return nil, errors.New("the price sheet has no prices")
	}
	return sheet, nil
}

func parsePrice(text string) (Price, error) {
	whole, part, _ := strings.Cut(text, ".")
	if len(part) > 6 {
		return 0, fmt.Errorf("price %q has more than six decimals", text)
	}
	number, err := strconv.ParseUint(whole+part+strings.Repeat("0", 6-len(part)), 10, 62)
	if err != nil || whole == "" {
		return 0, fmt.Errorf("a price is a number such as 0.0104, not %q", text)
	}
	return Price(number), nil
}

// hourly returns what an hour of a machine costs, and whether the sheet has every
// price that is part of it.
func (p *Prices) hourly(f *fleet.Fleet, m *fleet.Machine, market *Market, o Offer) (total Price, known bool) {
	if p == nil {
		return 0, false
	}
	known = true
	look := func(name string) Price {
		price, ok := p.prices[item{market.Name, name}]
		known = known && ok
		return price
	}
	if o.Size.Flexible() {
		total = look(o.Size.Name+flexibleCPU)*Price(processors(o.CPUs, o.Size.Arch)) +
			look(o.Size.Name+flexibleGiB)*Price(o.Memory/fleet.GiB)
	} else {
		total = look(o.Size.Name)
	}
	system := catalog.Of(f, m)
	for _, d := range m.Disks {
		if d.IsRoot() && o.Size.Disk > 0 && !o.OwnDisk {
			continue // included in the size
		}
		class := disk
		if d.Speed == fleet.Fast {
			class = fastDisk
		}
		gib := Price(market.Disks.Round(system, d) / fleet.GiB)
		total += look(class) * gib / HoursPerMonth
	}
	if m.PublicAddress {
		total += look(publicAddress)
	}
	return total, known
}
