package cli

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

func (s *session) manualCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "manual [COMMAND]",
		Short: "Print the manual page",
		Long: `Manual prints the manual page of stavren, or of one of its commands, in the form
that man reads.`,
		Example: "  stavren manual | man -l -\n  stavren manual check >stavren-check.1",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			page := c.Root()
			if len(args) == 1 {
				found, _, err := c.Root().Find(args)
				if err != nil || found == c.Root() {
					return fmt.Errorf("there is no command %q", args[0])
				}
				page = found
			}
			var out bytes.Buffer
			released := time.Date(2026, time.November, 25, 0, 0, 0, 0, time.UTC)
			// The page has a fixed date, so that the same program always gives the
			// same page.
			header := &doc.GenManHeader{Title: strings.ToUpper(strings.ReplaceAll(page.CommandPath(), " ", "-")), Section: "1", Source: "stavren " + version(), Date: &released}
			page.DisableAutoGenTag = true
			if err := doc.GenMan(page, header, &out); err != nil {
				return fmt.Errorf("making the manual page: %w", err)
			}
			_, err := s.output.Write(out.Bytes())
			return err
		},
	}
}
