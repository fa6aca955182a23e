package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"stavren.example/stavren"
	"stavren.example/stavren/fleet"
)

// fitCall is one call of the fit command.
type fitCall struct {
	allowOutside bool
	variants     []string
	platforms    []string
	cost         costFlags
	all, totals  bool
	format       format
}

// costFlags are the flags of commands that choose sizes.
type costFlags struct {
	prices string
	sizes  []string
}

func (f *costFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.prices, "prices", "", "price sheet, a CSV `FILE` with the columns platform, item, price, currency")
	c.Flags().StringSliceVar(&f.sizes, "sizes", nil, "take a platform's sizes from `PLATFORM=FILE`, a CSV file with the columns name, cpus, memory, arch, disk")
}

// readPrices reads the price sheet, or returns nil if none is named.
func (s *session) readPrices(flags costFlags) (*stavren.Prices, error) {
	if flags.prices == "" {
		return nil, nil
	}
	data, err := fs.ReadFile(s.files, flags.prices)
	if err != nil {
		return nil, fmt.Errorf("cannot read the price sheet: %w", err)
	}
	sheet, err := stavren.ReadPrices(data)
	if err != nil {
		return nil, fmt.Errorf("price sheet %s: %w", flags.prices, err)
	}
	return sheet, nil
}

// useSizes puts sizes of the user's own in place of a platform's public ones.
func (s *session) useSizes(f *fleet.Fleet, flags costFlags) error {
	for _, pair := range flags.sizes {
		platform, file, is := strings.Cut(pair, "=")
		if !is || !slices.Contains(stavren.Platforms(), platform) {
			return fmt.Errorf("--sizes takes PLATFORM=FILE with one of %s, not %q", strings.Join(stavren.Platforms(), ", "), pair)
		}
		data, err := fs.ReadFile(s.files, file)
		if err != nil {
			return fmt.Errorf("cannot read the sizes of %s: %w", platform, err)
		}
		if err := stavren.UseSizes(f, platform, data); err != nil {
			return fmt.Errorf("sizes of %s, %s: %w", platform, file, err)
		}
	}
	return nil
}

func (s *session) fitCommand() *cobra.Command {
	var call fitCall
	c := &cobra.Command{
		Use:   "fit FILE",
		Short: "Say which sizes of each platform satisfy the machines, and what they cost",
		Long: `Fit lists for each machine and platform the size that satisfies it: the cheapest
by a price sheet, or without one the closest to what was asked, with what it
gives beyond that. Prices are for an hour and for a month of 730 hours, with
disks and public addresses. Several variants are shown side by side.

Only what a price sheet says is known of prices; none comes with Stavren but the
made-up one of the demo.`,
		Example: "  stavren fit tide-office.stavren.yaml --prices prices.csv\n  stavren fit tide-office.stavren.yaml --for gce,oci --all\n  stavren fit tide-office.stavren.yaml --prices prices.csv --variant none,rehearsal",
		Args:    cobra.ExactArgs(1),
		RunE:    func(_ *cobra.Command, args []string) error { return s.fit(args[0], call) },
	}
	c.Flags().StringSliceVar(&call.variants, "variant", nil, "apply this `VARIANT`; several are compared, and none is the definition as it stands")
	c.Flags().BoolVar(&call.allowOutside, "allow-outside", false, "let a definition take in files from outside its folder")
	c.Flags().StringSliceVar(&call.platforms, "for", nil, "look at this `PLATFORM` alone; may be repeated")
	c.Flags().BoolVar(&call.all, "all", false, "list every size that fits, not the first alone")
	c.Flags().BoolVar(&call.totals, "totals", false, "print the fleet's totals alone")
	call.cost.add(c)
	s.addFormat(c, &call.format)
	return c
}

// fitted is the fleet of one variant, with what fits.
type fitted struct {
	Variant   string          `json:"variant"`
	Machines  []fittedMachine `json:"machines"`
	Totals    []fittedTotal   `json:"totals"`
	fleetName string
}

type fittedMachine struct {
	Names  []string         `json:"machines"`
	CPUs   int              `json:"cpus"`
	Memory string           `json:"memory"`
	Arch   string           `json:"arch"`
	Fits   []fittedPlatform `json:"platforms"`
}

type fittedPlatform struct {
	Platform string       `json:"platform"`
	Sizes    []fittedSize `json:"sizes"`
	Missing  string       `json:"missing,omitempty"`
}

type fittedSize struct {
	Size   string `json:"size"`
	CPUs   int    `json:"cpus"`
	Memory string `json:"memory"`
	Named  bool   `json:"named,omitempty"`
	More   string `json:"more_than_asked,omitempty"`
	Hour   string `json:"hour,omitempty"`
	Month  string `json:"month,omitempty"`
}

type fittedTotal struct {
	Platform string `json:"platform"`
	Machines int    `json:"machines"`
	Missing  int    `json:"without_size"`
	Hour     string `json:"hour,omitempty"`
	Month    string `json:"month,omitempty"`
}

func (s *session) fit(definition string, call fitCall) error {
	platforms := stavren.Platforms()
	for _, name := range call.platforms {
		if !slices.Contains(platforms, name) {
			return fmt.Errorf("%q is no platform with sizes; they are %s", name, strings.Join(platforms, ", "))
		}
	}
	if len(call.platforms) > 0 {
		platforms = call.platforms
	}
	prices, err := s.readPrices(call.cost)
	if err != nil {
		return err
	}
	variants := call.variants
	if len(variants) == 0 {
		variants = []string{"none"}
	}
	var all []fitted
	for _, variant := range variants {
		flags := loadFlags{allowOutside: call.allowOutside}
		if variant != "none" {
			flags.variant = variant
		}
		f, err := s.load(definition, flags)
		if err != nil {
			return err
		}
		if err := s.useSizes(f, call.cost); err != nil {
			return err
		}
		all = append(all, fitFleet(f, variant, platforms, prices, call.all))
	}
	if call.format == "json" {
		result := map[string]any{"variants": all}
		if prices != nil {
			result["prices"] = map[string]string{"about": prices.About, "currency": prices.Currency, "month": fmt.Sprintf("%d hours", stavren.HoursAMonth)}
		}
		if err := printJSON(s.stdout, result); err != nil {
			return err
		}
		return nowhere(all)
	}
	if call.totals && prices == nil {
		return errors.New("--totals needs --prices")
	}
	s.printFit(all, prices, call.totals)
	return nowhere(all)
}

// nowhere ends the command with the code for errors if some machine fits on none
// of the platforms.
func nowhere(all []fitted) error {
	for _, f := range all {
		for _, m := range f.Machines {
			if !slices.ContainsFunc(m.Fits, func(fit fittedPlatform) bool { return fit.Missing == "" }) {
				return errFaults
			}
		}
	}
	return nil
}

// fitFleet looks for sizes for every machine. Machines that want the same are
// listed together.
func fitFleet(f *fleet.Fleet, variant string, platforms []string, prices *stavren.Prices, all bool) fitted {
	result := fitted{Variant: variant, fleetName: f.Name}
	hourly := make([]stavren.Price, len(platforms))
	known := slices.Repeat([]bool{true}, len(platforms))
	result.Totals = make([]fittedTotal, len(platforms))
	at := map[string]int{}
	for _, m := range f.Machines {
		arch := fleet.DefaultArch
		if image := f.Image(m.Image); image != nil {
			arch = image.Arch
		}
		entry := fittedMachine{Names: []string{m.Name}, CPUs: m.Resources.CPUs, Memory: m.Resources.Memory.String(), Arch: arch}
		for i, platform := range platforms {
			fit, price, priced := fitMachine(f, m, platform, prices, all)
			result.Totals[i].Platform = platform
			result.Totals[i].Machines++
			if len(fit.Sizes) == 0 {
				result.Totals[i].Missing++
			}
			hourly[i] += price
			known[i] = known[i] && priced
			entry.Fits = append(entry.Fits, fit)
		}
		key := fmt.Sprint(entry.CPUs, entry.Memory, entry.Arch, entry.Fits)
		if i, there := at[key]; there {
			result.Machines[i].Names = append(result.Machines[i].Names, m.Name)
			continue
		}
		at[key] = len(result.Machines)
		result.Machines = append(result.Machines, entry)
	}
	for i := range platforms {
		if known[i] && result.Totals[i].Missing == 0 {
			result.Totals[i].Hour, result.Totals[i].Month = hourly[i].String(), (hourly[i] * stavren.HoursAMonth).String()
		}
	}
	return result
}

func fitMachine(f *fleet.Fleet, m *fleet.Machine, platform string, prices *stavren.Prices, all bool) (fit fittedPlatform, price stavren.Price, priced bool) {
	fit = fittedPlatform{Platform: platform, Sizes: []fittedSize{}}
	chosen, named, err := stavren.Choose(f, m, platform, prices)
	if err != nil {
		fit.Missing = strings.TrimPrefix(err.Error(), "no size of "+platform+" satisfies machine "+m.Name+"; ")
		fit.Missing = strings.ReplaceAll(fit.Missing, " for machine "+m.Name, "")
		return fit, 0, false
	}
	offers := []stavren.Offer{chosen}
	if all {
		others, err := stavren.Fit(f, m, platform, prices)
		if err == nil {
			offers = append(offers, slices.DeleteFunc(others, func(o stavren.Offer) bool { return o.Size.Name == chosen.Size.Name })...)
		}
	}
	for i, o := range offers {
		size := fittedSize{Size: o.Size.Name, CPUs: o.CPUs, Memory: o.Memory.String(), Named: named && i == 0, More: o.Waste(m)}
		if o.Known {
			size.Hour, size.Month = o.Hourly.String(), (o.Hourly * stavren.HoursAMonth).String()
		}
		fit.Sizes = append(fit.Sizes, size)
	}
	return fit, chosen.Hourly, chosen.Known
}

// printFit prints totals first, since they are what everybody asks for, and then
// the machines.
func (s *session) printFit(all []fitted, prices *stavren.Prices, totals bool) {
	if prices != nil {
		fmt.Fprintf(s.stdout, "Prices in %s: %s\n\n", prices.Currency, prices.About)
		s.printTotals(all)
	}
	if totals {
		return
	}
	for i, f := range all {
		if i > 0 || prices != nil {
			fmt.Fprintln(s.stdout)
		}
		if len(all) > 1 {
			fmt.Fprintf(s.stdout, "%s\n", heading.Render(variantTitle(f.Variant)))
		}
		s.printMachines(f, prices != nil)
	}
	if prices == nil {
		s.talk("\nwithout a price sheet sizes are ordered by closeness; give one with --prices")
	}
}

// maxNamed is how many machines that want the same are named.
const maxNamed = 4

func variantTitle(variant string) string {
	if variant == "none" {
		return "as it stands"
	}
	return "variant " + variant
}

func (s *session) printTotals(all []fitted) {
	line := fmt.Sprintf("%-16s", all[0].fleetName)
	for _, f := range all {
		line += fmt.Sprintf("%24s", variantTitle(f.Variant))
	}
	fmt.Fprintln(s.stdout, bold.Render(line))
	line = fmt.Sprintf("%-16s", "")
	for range all {
		line += fmt.Sprintf("%12s%12s", "hour", "month")
	}
	fmt.Fprintln(s.stdout, dim.Render(line))
	for i, total := range all[0].Totals {
		line := fmt.Sprintf("%-16s", total.Platform)
		for _, f := range all {
			total := f.Totals[i]
			hour, month := total.Hour, total.Month
			switch {
			case total.Missing > 0:
				hour, month = "", fmt.Sprintf("%d without size", total.Missing)
			case hour == "":
				hour, month = "", "not priced"
			}
			line += fmt.Sprintf("%*s%*s", 24-max(12, len(month)+1), hour, max(12, len(month)+1), month)
		}
		fmt.Fprintln(s.stdout, line)
	}
}

func (s *session) printMachines(f fitted, priced bool) {
	for i, m := range f.Machines {
		if i > 0 {
			fmt.Fprintln(s.stdout)
		}
		wants := fmt.Sprintf("%s, %s, %s", count(m.CPUs, "cpu", "cpus"), m.Memory, m.Arch)
		if len(m.Names) > 1 {
			wants += ", each"
		}
		names := strings.Join(m.Names[:min(len(m.Names), maxNamed)], ", ")
		if more := len(m.Names) - maxNamed; more > 0 {
			names += fmt.Sprintf(" and %d more", more)
		}
		fmt.Fprintf(s.stdout, "%s  %s\n", bold.Render(names), dim.Render(wants))
		for _, fit := range m.Fits {
			if fit.Missing != "" {
				fmt.Fprintf(s.stdout, "  %-15s %s\n", fit.Platform, caret.Render(fit.Missing))
			}
			for j, size := range fit.Sizes {
				platform := fit.Platform
				if j > 0 {
					platform = ""
				}
				line := fmt.Sprintf("  %-15s %-22s", platform, size.Size)
				if priced {
					line += fmt.Sprintf("%8s%9s", size.Hour, size.Month)
				}
				more := size.More
				if more == "" {
					more = "as asked"
				}
				if size.Named {
					more += ", named"
				}
				fmt.Fprintf(s.stdout, "%s  %s\n", line, dim.Render(more))
			}
		}
	}
}

// printCost ends a machine's sheet with the size that it would get on each
// platform, and what that costs.
func (s *session) printCost(f *fleet.Fleet, m *fleet.Machine, prices *stavren.Prices) {
	if prices == nil {
		return
	}
	fmt.Fprintf(s.stdout, "%s\n", bold.Render("cost"))
	for _, platform := range stavren.Platforms() {
		o, _, err := stavren.Choose(f, m, platform, prices)
		switch {
		case err != nil:
			fmt.Fprintf(s.stdout, "  %-15s %s\n", platform, dim.Render("no size fits"))
		case !o.Known:
			fmt.Fprintf(s.stdout, "  %-15s %-22s  %s\n", platform, o.Size.Name, dim.Render("not priced"))
		default:
			fmt.Fprintf(s.stdout, "  %-15s %-22s %9s an hour %10s a month, %s\n", platform, o.Size.Name, o.Hourly, o.Hourly*stavren.HoursAMonth, prices.Currency)
		}
	}
	fmt.Fprintf(s.stdout, "  %s\n", dim.Render(prices.About))
}
