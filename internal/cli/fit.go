package cli

import (
	"context"
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
	c.Flags().StringVar(&f.prices, "prices", "",
		"price sheet: a CSV `FILE` with the columns platform, item, price, currency")
	c.Flags().StringSliceVar(&f.sizes, "sizes", nil,
		"read a platform's sizes from `PLATFORM=FILE`, a CSV file with the columns name, cpus, memory, arch, disk")
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

// printUnknownPrices tells of lines of a price sheet that have no effect.
func (s *session) printUnknownPrices(prices *stavren.Prices, f *fleet.Fleet, flags costFlags) {
	if prices == nil {
		return
	}
	unknown := prices.Unknown(f)
	for i, text := range unknown {
		if i == maxListed {
			s.talk("and %d more", len(unknown)-maxListed)
			break
		}
		s.talk("%s: %s", flags.prices, text)
	}
}

// useSizes replaces a platform's public sizes by the user's own.
func (s *session) useSizes(f *fleet.Fleet, flags costFlags) error {
	for _, pair := range flags.sizes {
		platform, file, ok := strings.Cut(pair, "=")
		if !ok || !slices.Contains(stavren.Clouds(), platform) {
			return fmt.Errorf("--sizes takes PLATFORM=FILE with one of %s, not %q",
				strings.Join(stavren.Clouds(), ", "), pair)
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
		Short: "Find the sizes of each platform that satisfy the machines, and what they cost",
		Long: `Fit lists the size that satisfies each machine on each platform: the cheapest
according to a price sheet, or without one the closest to what was asked, with
what it provides beyond that. Prices are per hour and per month of 730 hours,
including disks and public addresses. Several variants are shown side by side.

Prices come only from a price sheet. Stavren has none but the made-up one of the
demo.`,
		Example: "  stavren fit tide-office.stavren.yaml --prices prices.csv\n" +
			"  stavren fit tide-office.stavren.yaml --for gce,oci --all\n" +
			"  stavren fit tide-office.stavren.yaml --prices prices.csv --variant none,rehearsal",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error { return s.fit(c.Context(), args[0], call) },
	}
	c.Flags().StringSliceVar(&call.variants, "variant", nil,
		"apply this `VARIANT`; several are compared, and none is the definition without one")
	c.Flags().BoolVar(&call.allowOutside, "allow-outside", false, "let a definition read files outside its folder")
	c.Flags().StringSliceVar(&call.platforms, "for", nil, "look at this `PLATFORM` only; may be repeated")
	c.Flags().BoolVar(&call.all, "all", false, "list every size that fits, not only the first")
	c.Flags().BoolVar(&call.totals, "totals", false, "print only the fleet's totals")
	call.cost.add(c)
	s.addFormat(c, &call.format)
	return c
}

// fitted is the result for one variant.
type fitted struct {
	variant   string
	fleetName string
	stavren.FleetFit
}

func (s *session) fit(ctx context.Context, definition string, call fitCall) error {
	clouds := stavren.Clouds()
	for _, name := range call.platforms {
		if !slices.Contains(clouds, name) {
			return fmt.Errorf("%q is not a platform with sizes; they are %s", name, strings.Join(clouds, ", "))
		}
	}
	if len(call.platforms) > 0 {
		clouds = call.platforms
	}
	prices, err := s.readPrices(call.cost)
	if err != nil {
		return err
	}
	variants := call.variants
	if len(variants) == 0 {
		variants = []string{noVariant}
	}
	var all []fitted
	for _, variant := range variants {
		flags := loadFlags{allowOutside: call.allowOutside}
		if variant != noVariant {
			flags.variant = variant
		}
		f, err := s.load(ctx, definition, flags)
		if err != nil {
			return err
		}
		if err := s.useSizes(f, call.cost); err != nil {
			return err
		}
		if len(all) == 0 {
			s.printUnknownPrices(prices, f, call.cost)
		}
		fit, err := stavren.FitFleet(f, clouds, prices, call.all)
		if err != nil {
			return err
		}
		all = append(all, fitted{variant, f.Name, fit})
	}
	switch {
	case call.format == "json":
		if err := s.printJSON(jsonFit(all, prices)); err != nil {
			return err
		}
	case call.totals && prices == nil:
		return errors.New("--totals needs --prices")
	default:
		s.printFit(all, prices, call.totals)
	}
	return errIfNowhere(all)
}

// noVariant stands for the definition without a variant.
const noVariant = "none"

// errIfNowhere ends the command with the exit code for errors if a machine fits on
// none of the platforms.
func errIfNowhere(all []fitted) error {
	for _, f := range all {
		for _, m := range f.Machines {
			if !slices.ContainsFunc(m.Clouds, func(fit stavren.CloudFit) bool { return fit.Missing == "" }) {
				return errFaults
			}
		}
	}
	return nil
}

// printFit prints the totals first, since people look for them, and then the
// machines.
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
			fmt.Fprintf(s.stdout, "%s\n", heading(variantTitle(f.variant)))
		}
		s.printMachines(f, prices != nil)
	}
	if prices == nil {
		s.talk("\nwithout a price sheet, the closest size comes first; give one with --prices")
	}
}

// maxNamed is how many machines that need the same are named.
const maxNamed = 4

func variantTitle(variant string) string {
	if variant == noVariant {
		return "as it is"
	}
	return "variant " + variant
}

func (s *session) printTotals(all []fitted) {
	line := fmt.Sprintf("%-16s", all[0].fleetName)
	for _, f := range all {
		line += fmt.Sprintf("%24s", variantTitle(f.variant))
	}
	fmt.Fprintln(s.stdout, bold(line))
	line = fmt.Sprintf("%-16s", "")
	for range all {
		line += fmt.Sprintf("%12s%12s", "hour", "month")
	}
	fmt.Fprintln(s.stdout, dim(line))
	for i, total := range all[0].Totals {
		line := fmt.Sprintf("%-16s", total.Cloud)
		for _, f := range all {
			total := f.Totals[i]
			hour, month := hourAndMonth(total.Hourly, total.Known)
			switch {
			case total.Missing > 0:
				hour, month = "", fmt.Sprintf("%d without size", total.Missing)
			case hour == "":
				month = "not priced"
			}
			line += fmt.Sprintf("%*s%*s", 24-max(12, len(month)+1), hour, max(12, len(month)+1), month)
		}
		fmt.Fprintln(s.stdout, line)
	}
}

func (s *session) printMachines(f fitted, priced bool) {
	for i, fit := range f.Machines {
		if i > 0 {
			fmt.Fprintln(s.stdout)
		}
		m := fit.Machines[0]
		needs := fmt.Sprintf("%s, %s, %s", count(m.Resources.CPUs, "cpu", "cpus"), m.Resources.Memory, fit.Arch)
		if len(fit.Machines) > 1 {
			needs += ", each"
		}
		var names []string
		for _, m := range fit.Machines[:min(len(fit.Machines), maxNamed)] {
			names = append(names, m.Name)
		}
		list := strings.Join(names, ", ")
		if more := len(fit.Machines) - maxNamed; more > 0 {
			list += fmt.Sprintf(" and %d more", more)
		}
		fmt.Fprintf(s.stdout, "%s  %s\n", bold(list), dim(needs))
		for _, cloud := range fit.Clouds {
			s.printOffers(m, cloud, priced)
		}
	}
}

func (s *session) printOffers(m *fleet.Machine, fit stavren.CloudFit, priced bool) {
	if fit.Missing != "" {
		fmt.Fprintf(s.stdout, "  %-15s %s\n", fit.Cloud, bad(fit.Missing))
	}
	for i, o := range fit.Offers {
		platform := fit.Cloud
		if i > 0 {
			platform = ""
		}
		line := fmt.Sprintf("  %-15s %-22s", platform, o.Size.Name)
		if priced {
			hour, month := hourAndMonth(o.Hourly, o.Known)
			line += fmt.Sprintf("%8s%9s", hour, month)
		}
		more := o.Waste(m)
		if more == "" {
			more = "as asked"
		}
		if fit.Named && i == 0 {
			more += ", named"
		}
		fmt.Fprintf(s.stdout, "%s  %s\n", line, dim(more))
	}
}

// printCost ends a machine's sheet with the size that it gets on each platform, and
// what that costs.
func (s *session) printCost(f *fleet.Fleet, m *fleet.Machine, prices *stavren.Prices) {
	if prices == nil {
		return
	}
	fmt.Fprintf(s.stdout, "%s\n", bold("cost"))
	for _, platform := range stavren.Clouds() {
		o, _, err := stavren.Choose(f, m, platform, prices)
		switch {
		case err != nil:
			fmt.Fprintf(s.stdout, "  %-15s %s\n", platform, dim("no size fits"))
		case !o.Known:
			fmt.Fprintf(s.stdout, "  %-15s %-22s  %s\n", platform, o.Size.Name, dim("not priced"))
		default:
			fmt.Fprintf(s.stdout, "  %-15s %-22s %9s per hour %10s per month, %s\n", platform, o.Size.Name, o.Hourly,
				o.Hourly*stavren.HoursPerMonth, prices.Currency)
		}
	}
	fmt.Fprintf(s.stdout, "  %s\n", dim(prices.About))
}
