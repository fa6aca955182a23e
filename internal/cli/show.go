package cli

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/rivo/uniseg"
	"github.com/spf13/cobra"

	"stavren.example/stavren"
	"stavren.example/stavren/fleet"
)

func (s *session) showCommand() *cobra.Command {
	var load loadFlags
	var cost costFlags
	var format format
	var origins, filled bool
	c := &cobra.Command{
		Use:   "show FILE [MACHINE]",
		Short: "Show resolved machines with every default",
		Long: `Show prints machines as they will be created: every value, with defaults marked.
--origins adds where each value was written. --prices adds what the machine costs
on each platform. --filled prints the filled texts as the machine gets them,
without their secrets.`,
		Example: "  stavren show tide-office.stavren.yaml almanac\n  stavren show --origins tide-office.stavren.yaml",
		Args:    cobra.RangeArgs(1, 2),
		RunE: func(c *cobra.Command, args []string) error {
			f, machines, err := s.loadMachines(c.Context(), args, load)
			if err != nil {
				return err
			}
			if filled {
				return s.printFilled(machines, format)
			}
			prices, err := s.readPrices(cost)
			if err != nil {
				return err
			}
			if err := s.useSizes(f, cost); err != nil {
				return err
			}
			if format == "json" {
				return s.printJSON(jsonSheets(f, machines))
			}
			s.printUnknownPrices(prices, f, cost)
			for i, m := range machines {
				if i > 0 {
					fmt.Fprintln(s.stdout)
				}
				printSheet(s.stdout, stavren.Sheet(f, m), origins)
				s.printCost(f, m, prices)
			}
			return nil
		},
	}
	load.add(c)
	cost.add(c)
	s.addFormat(c, &format)
	c.Flags().BoolVar(&origins, "origins", false, "print where each value was written")
	c.Flags().BoolVar(&filled, "filled", false, "print filled texts as the machine gets them")
	return c
}

// maxKey is the longest key that counts for the width of its column. Longer ones,
// such as paths, run over.
const maxKey = 26

// printSheet prints one machine: values in groups, each below its name.
func printSheet(out io.Writer, sheet stavren.MachineSheet, origins bool) {
	fmt.Fprintln(out, heading(sheet.Machine)+oneLineAbout(sheet.About))
	fmt.Fprintln(out, dim("  "+sheet.System))
	width, valueWidth := 0, 0
	for _, row := range sheet.Rows {
		_, key := splitPath(row.Path)
		if len(key) <= maxKey {
			width = max(width, len(key))
		}
		valueWidth = max(valueWidth, min(uniseg.StringWidth(shown(row.Value)), 32))
	}
	// Values of the machine itself come first, then each group.
	rows := slices.Clone(sheet.Rows)
	slices.SortStableFunc(rows, func(a, b stavren.SheetRow) int {
		return cmp.Compare(min(strings.Count(a.Path, "."), 1), min(strings.Count(b.Path, "."), 1))
	})
	group := ""
	for _, row := range rows {
		if row.Path == "about" {
			continue
		}
		newGroup, key := splitPath(row.Path)
		if newGroup != group {
			group = newGroup
			fmt.Fprintln(out, bold(group))
		}
		value := shown(row.Value)
		line := "  " + key + strings.Repeat(" ", max(width-len(key), 0)+2) + value
		if note := originNote(row.Origin, origins); note != "" {
			line += strings.Repeat(" ", max(width+valueWidth+4-uniseg.StringWidth(line), 0)+2) + dim(note)
		}
		fmt.Fprintln(out, line)
	}
}

// filledText is a text that was run through text/template.
type filledText struct {
	Machine string `json:"machine"`
	Name    string `json:"name"`
	Text    string `json:"text"`
}

func (s *session) printFilled(machines []*fleet.Machine, format format) error {
	texts := []filledText{}
	add := func(m *fleet.Machine, name string, content *fleet.Content) {
		if content.Filled {
			// The name of a secret stands for its value.
			text, _ := content.Reveal(func(secret string) (string, error) { return "[secret " + secret + "]", nil })
			texts = append(texts, filledText{m.Name, name, text})
		}
	}
	for _, m := range machines {
		for _, file := range m.FirstBoot.Files {
			add(m, file.Path, &file.Content)
		}
		for _, script := range m.FirstBoot.Scripts {
			add(m, "script "+script.Name, &script.Content)
		}
	}
	if format == "json" {
		return s.printJSON(texts)
	}
	for i, text := range texts {
		if i > 0 {
			fmt.Fprintln(s.stdout)
		}
		fmt.Fprintln(s.stdout, heading(text.Machine)+"  "+text.Name)
		for line := range strings.Lines(text.Text) {
			fmt.Fprintln(s.stdout, "  "+visible([]rune(strings.TrimRight(line, "\n"))))
		}
	}
	if len(texts) == 0 {
		s.talk("these machines have no filled texts; add fill: true beside a text or file")
	}
	return nil
}

func oneLineAbout(about string) string {
	if about == "" {
		return ""
	}
	return "  " + shown(about)
}

// maxShown is how much of a value the sheet shows, in bytes.
const maxShown = 300

// shown returns a value in a form for terminals: on one line, without characters that
// would move the cursor, and cut off if it is long.
func shown(value string) string {
	if len(value) > maxShown {
		value = strings.ToValidUTF8(value[:maxShown], "") + "…"
	}
	if strings.ContainsAny(value, "\n\r\t\x1b") {
		return strconv.Quote(value)
	}
	return visible([]rune(value))
}

func originNote(origin fleet.Origin, wanted bool) string {
	switch {
	case origin.IsDefault():
		return fleet.Default
	case !wanted:
		return ""
	case origin.Via != "":
		return origin.Place.String() + " (" + origin.Via + ")"
	}
	return origin.Place.String()
}

// splitPath splits "disks.root.size" into its group and the rest. A value of the
// machine itself is in the group "machine".
func splitPath(path string) (group, key string) {
	if group, key, deep := strings.Cut(path, "."); deep {
		return group, key
	}
	return "machine", path
}

type jsonSheet struct {
	Machine string    `json:"machine"`
	System  string    `json:"system"`
	Values  []jsonRow `json:"values"`
}

type jsonRow struct {
	Path    string `json:"path"`
	Value   string `json:"value"`
	Default bool   `json:"default,omitempty"`
	File    string `json:"file,omitempty"`
	Line    int32  `json:"line,omitempty"`
	Column  int32  `json:"column,omitempty"`
	Via     string `json:"via,omitempty"`
}

func jsonSheets(f *fleet.Fleet, machines []*fleet.Machine) any {
	sheets := make([]jsonSheet, 0, len(machines))
	for _, m := range machines {
		sheet := stavren.Sheet(f, m)
		out := jsonSheet{Machine: sheet.Machine, System: sheet.System}
		for _, row := range sheet.Rows {
			entry := jsonRow{Path: row.Path, Value: row.Value, Default: row.Origin.IsDefault(),
				File: row.Origin.File, Line: row.Origin.Line, Column: row.Origin.Column}
			if !entry.Default {
				entry.Via = row.Origin.Via
			}
			out.Values = append(out.Values, entry)
		}
		sheets = append(sheets, out)
	}
	return map[string]any{"fleet": f.Name, "machines": sheets}
}

// count writes a number with its noun.
func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + many
}
