package sizing

import (
	"fmt"
	"slices"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/nearest"
)

// Unknown returns a sentence for each item of the sheet that prices nothing which a market
// sells to a fleet: another platform, size or item, with the nearest name. They are in the
// order of the sheet.
func (p *Prices) Unknown(f *fleet.Fleet, markets []*Market) []string {
	items := map[string][]string{}
	var platforms []string
	for _, market := range markets {
		platforms = append(platforms, market.Name)
		known := []string{disk, fastDisk, publicAddress}
		for _, size := range append(slices.Clone(market.Sizes()), market.SizesFor(f)...) {
			if size.Flexible() {
				known = append(known, size.Name+flexibleCPU, size.Name+flexibleGiB)
			} else {
				known = append(known, size.Name)
			}
		}
		items[market.Name] = known
	}
	var unknown []item
	for key := range p.prices {
		if !slices.Contains(items[key.platform], key.name) {
			unknown = append(unknown, key)
		}
	}
	slices.SortFunc(unknown, func(a, b item) int { return p.lines[a] - p.lines[b] })
	var texts []string
	for _, key := range unknown {
		if known, ok := items[key.platform]; ok {
			texts = append(texts, fmt.Sprintf("line %d: %s has no size or item %q; %s", p.lines[key], key.platform, key.name,
				nearest.Remedy(key.name, known)))
		} else {
			texts = append(texts, fmt.Sprintf("line %d: %q is no platform with sizes; %s", p.lines[key], key.platform,
				nearest.Remedy(key.platform, platforms)))
		}
	}
	return texts
}
