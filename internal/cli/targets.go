package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"stavren.example/stavren"
)

func (s *session) targetsCommand() *cobra.Command {
	var format format
	c := &cobra.Command{
		Use:     "targets",
		Short:   "List the targets and the files that each writes",
		Example: "  stavren targets",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			targets := stavren.Targets()
			if format == "json" {
				list := []any{}
				for _, target := range targets {
					fates := []any{}
					for _, fate := range target.Fates {
						fates = append(fates, map[string]string{"field": fate.Field, "fate": fate.Outcome.String(), "how": fate.How})
					}
					list = append(list, map[string]any{"name": target.Name, "summary": target.Summary, "writes": target.Writes, "fates": fates})
				}
				return printJSON(s.stdout, list)
			}
			for i, target := range targets {
				if i > 0 {
					fmt.Fprintln(s.stdout)
				}
				fmt.Fprintf(s.stdout, "%s  %s\n  %s\n", heading.Render(target.Name), target.Summary, dim.Render("writes "+strings.Join(target.Writes, ", ")))
			}
			return nil
		},
	}
	s.addFormat(c, &format)
	return c
}
