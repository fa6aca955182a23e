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

// HoursAMonth is what a month counts in prices: a twelfth of a year.
const HoursAMonth = 730

// String writes a price with two decimals, or four where it is small.
func (p Price) String() string {
	if p < 1_000_000 {
		return strconv.FormatFloat(float64(p)/1e6, 'f', 4, 64)
	}
	return strconv.FormatFloat(float64(p)/1e6, 'f', 2, 64)
}

// Sheet is a list of prices. A nil sheet knows none.
type Sheet struct {
	// About is the first comment of the file, which every table of prices shows.
	About    string
	Currency string
	prices   map[item]Price
}

type item struct{ platform, name string }

// Items beside the names of sizes.
const (
	disk          = "disk"           // a GiB of disk for a month
	fastDisk      = "fast-disk"      // a GiB of fast disk for a month
	publicAddress = "public-address" // a public address for an hour
	flexibleCPU   = " cpu"           // behind a flexible size: a processor for an hour
	flexibleGiB   = " GiB"           // behind a flexible size: a GiB of memory for an hour
)

// ReadSheet reads a price sheet: CSV with the columns platform, item, price and
// currency. An item is a size, for an hour; `disk` or `fast-disk`, for a GiB and
// a month; or `public-address`, for an hour. A flexible size has two items, its
// name with " cpu" and with " GiB" behind it. Errors name the line.
func ReadSheet(data []byte) (*Sheet, error) {
	sheet := &Sheet{prices: map[item]Price{}}
	for _, line := range strings.Split(string(data), "\n") {
		if text, is := strings.CutPrefix(line, "#"); is {
			sheet.About = strings.TrimSpace(text)
			break
		}
	}
	reader := csv.NewReader(bytes.NewReader(data))
	reader.Comment = '#'
	reader.TrimLeadingSpace = true
	header, err := reader.Read()
	if err != nil || strings.Join(header, ",") != "platform,item,price,currency" {
		return nil, errors.New("a price sheet starts with the line platform,item,price,currency")
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
			return nil, fmt.Errorf("line %d: currency %q, but the sheet has %q; a sheet has one currency", line, row[3], sheet.Currency)
		}
		sheet.Currency = row[3]
		key := item{row[0], row[1]}
		if _, twice := sheet.prices[key]; twice {
			return nil, fmt.Errorf("line %d: %s of %s is priced twice", line, row[1], row[0])
		}
		sheet.prices[key] = price
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

// price is what an hour of a machine costs, and whether the sheet knows all of it.
func (s *Sheet) price(f *fleet.Fleet, m *fleet.Machine, platform string, o Offer) (Price, bool) {
	if s == nil {
		return 0, false
	}
	known := true
	sold, _ := catalog.LookupPlatform(platform)
	look := func(name string) Price {
		price, there := s.prices[item{platform, name}]
		known = known && there
		return price
	}
	var hourly Price
	if o.Size.Flexible() {
		hourly = look(o.Size.Name+flexibleCPU)*Price(processors(o.CPUs, o.Size.Arch)) + look(o.Size.Name+flexibleGiB)*Price(o.Memory/fleet.GiB)
	} else {
		hourly = look(o.Size.Name)
	}
	for _, d := range m.Disks {
		if d.IsRoot() && o.Size.Disk > 0 && !o.OwnDisk {
			continue
		}
		class := disk
		if d.Speed == fleet.Fast {
			class = fastDisk
		}
		gib := Price(sold.RoundDisk(d.Size) / fleet.GiB)
		hourly += look(class) * gib / HoursAMonth
	}
	if m.PublicAddress {
		hourly += look(publicAddress)
	}
	return hourly, known
}
