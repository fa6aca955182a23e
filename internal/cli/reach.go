package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"stavren.example/stavren"
)

func (s *session) reachCommand() *cobra.Command {
	var load loadFlags
	var format format
	c := &cobra.Command{
		Use:   "reach FILE [MACHINE]",
		Short: "Print how to log in to the machines",
		Long: `Reach prints the SSH command of each machine, its forwarded ports including those
chosen automatically, the pages to open, and a client configuration for
~/.ssh/config.`,
		Example: "  stavren reach tide-office.stavren.yaml almanac",
		Args:    cobra.RangeArgs(1, 2),
		RunE: func(c *cobra.Command, args []string) error {
			f, machines, err := s.loadMachines(c.Context(), args, load)
			if err != nil {
				return err
			}
			ways := make([]stavren.MachineReach, 0, len(machines))
			for _, m := range machines {
				ways = append(ways, stavren.Reach(f, m))
			}
			if format == "json" {
				return s.printJSON(map[string]any{"fleet": f.Name, "machines": ways})
			}
			s.printReach(ways)
			return nil
		},
	}
	load.add(c)
	s.addFormat(c, &format)
	return c
}

func (s *session) printReach(machines []stavren.MachineReach) {
	nameWidth, openWidth := 0, 0
	for _, m := range machines {
		for _, way := range m.Ways {
			nameWidth, openWidth = max(nameWidth, len(way.Name)), max(openWidth, min(len(way.Open), 48))
		}
	}
	var config strings.Builder
	for i, m := range machines {
		if i > 0 {
			fmt.Fprintln(s.stdout)
		}
		fmt.Fprintln(s.stdout, heading(m.Name))
		for _, way := range m.Ways {
			fmt.Fprintf(s.stdout, "  %-*s  %-*s  %s\n", nameWidth, way.Name, openWidth, way.Open,
				dim("host "+way.From+" to "+way.To))
		}
		if len(m.Logins) > 0 {
			fmt.Fprintf(s.stdout, "  %s\n", dim("logins by key: "+strings.Join(m.Logins, ", ")))
		}
		if m.Missing != "" {
			fmt.Fprintf(s.stdout, "  %s\n", m.Missing)
		}
		config.WriteString(m.Config)
	}
	if config.Len() > 0 {
		fmt.Fprintf(s.stdout, "\n%s\n%s", dim("# for ~/.ssh/config"), config.String())
	}
}
