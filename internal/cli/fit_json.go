package cli

import (
	"fmt"

	"stavren.example/stavren"
)

// The forms of fit's results for programs.

type jsonVariant struct {
	Variant  string           `json:"variant"`
	Machines []jsonMachineFit `json:"machines"`
	Totals   []jsonTotal      `json:"totals"`
}

type jsonMachineFit struct {
	Names  []string       `json:"machines"`
	CPUs   int            `json:"cpus"`
	Memory string         `json:"memory"`
	Arch   string         `json:"arch"`
	Fits   []jsonPlatform `json:"platforms"`
}

type jsonPlatform struct {
	Platform string     `json:"platform"`
	Sizes    []jsonSize `json:"sizes"`
	Missing  string     `json:"missing,omitempty"`
}

type jsonSize struct {
	Size   string `json:"size"`
	CPUs   int    `json:"cpus"`
	Memory string `json:"memory"`
	Named  bool   `json:"named,omitempty"`
	More   string `json:"more_than_asked,omitempty"`
	Hour   string `json:"hour,omitempty"`
	Month  string `json:"month,omitempty"`
}

type jsonTotal struct {
	Platform string `json:"platform"`
	Machines int    `json:"machines"`
	Missing  int    `json:"without_size"`
	Hour     string `json:"hour,omitempty"`
	Month    string `json:"month,omitempty"`
}

func jsonFit(all []fitted, prices *stavren.Prices) any {
	variants := make([]jsonVariant, 0, len(all))
	for _, f := range all {
		variant := jsonVariant{Variant: f.variant}
		for _, m := range f.Machines {
			variant.Machines = append(variant.Machines, jsonMachine(m))
		}
		for _, total := range f.Totals {
			hour, month := hourAndMonth(total.Hourly, total.Known)
			variant.Totals = append(variant.Totals, jsonTotal{total.Cloud, total.Machines, total.Missing, hour, month})
		}
		variants = append(variants, variant)
	}
	result := map[string]any{"variants": variants}
	if prices != nil {
		result["prices"] = map[string]string{
			"about": prices.About, "currency": prices.Currency, "month": fmt.Sprintf("%d hours", stavren.HoursPerMonth),
		}
	}
	return result
}

func jsonMachine(fit stavren.MachineFit) jsonMachineFit {
	first := fit.Machines[0]
	result := jsonMachineFit{CPUs: first.Resources.CPUs, Memory: first.Resources.Memory.String(), Arch: fit.Arch}
	for _, m := range fit.Machines {
		result.Names = append(result.Names, m.Name)
	}
	for _, cloud := range fit.Clouds {
		entry := jsonPlatform{Platform: cloud.Cloud, Sizes: []jsonSize{}, Missing: cloud.Missing}
		for i, o := range cloud.Offers {
			hour, month := hourAndMonth(o.Hourly, o.Known)
			entry.Sizes = append(entry.Sizes,
				jsonSize{o.Size.Name, o.CPUs, o.Memory.String(), cloud.Named && i == 0, o.Waste(first), hour, month})
		}
		result.Fits = append(result.Fits, entry)
	}
	return result
}

// hourAndMonth writes a price per hour and per month, or nothing if it isn't known.
func hourAndMonth(hourly stavren.Price, known bool) (hour, month string) {
	if !known {
		return "", ""
	}
	return hourly.String(), (hourly * stavren.HoursPerMonth).String()
}
