package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// released dates the manual page. It is fixed, so that the same program always prints
// the same page.
const released = "2026-11-26"

func (s *session) manualCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "manual [COMMAND]",
		Short: "Print the manual page",
		Long:  "Manual prints the manual page of stavren, or of one of its commands, as input for man.",
		Example: `  stavren manual | man -l -
  stavren manual check >stavren-check.1`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			command := c.Root()
			if len(args) == 1 {
				found, _, err := c.Root().Find(args)
				if err != nil || found == c.Root() {
					return fmt.Errorf("unknown command %q; see %s --help", args[0], c.Root().Name())
				}
				command = found
			}
			_, err := fmt.Fprint(s.output, manualPage(command))
			return err
		},
	}
}

// manualPage returns a command's manual page in the man macros of roff (man(7)).
func manualPage(c *cobra.Command) string {
	var page strings.Builder
	name := strings.ReplaceAll(c.CommandPath(), " ", "-")
	fmt.Fprintf(&page, ".TH %s 1 %s \"stavren %s\"\n", roff(strings.ToUpper(name)), released, roff(version()))
	fmt.Fprintf(&page, ".SH NAME\n%s \\- %s\n", roff(name), roff(c.Short))
	fmt.Fprintf(&page, ".SH SYNOPSIS\n\\fB%s\\fP\n", roff(c.UseLine()))
	fmt.Fprintf(&page, ".SH DESCRIPTION\n%s\n", strings.ReplaceAll(roff(c.Long), "\n\n", "\n.PP\n"))
	page.WriteString(".SH OPTIONS\n")
	c.Flags().VisitAll(func(f *pflag.Flag) { manualOption(&page, f) })
	c.InheritedFlags().VisitAll(func(f *pflag.Flag) { manualOption(&page, f) })
	if c.HasAvailableSubCommands() {
		page.WriteString(".SH COMMANDS\n")
		for _, sub := range c.Commands() {
			fmt.Fprintf(&page, ".TP\n\\fB%s\\fP\n%s\n", roff(sub.Name()), roff(sub.Short))
		}
	}
	if c.Example != "" {
		fmt.Fprintf(&page, ".SH EXAMPLES\n.nf\n%s\n.fi\n", roff(c.Example))
	}
	page.WriteString(".SH EXIT STATUS\n.TP\n0\nNo errors.\n.TP\n1\nThe definition has errors.\n" +
		".TP\n2\nThe call or a file could not be used.\n")
	return page.String()
}

func manualOption(page *strings.Builder, f *pflag.Flag) {
	value, usage := pflag.UnquoteUsage(f)
	option := "--" + f.Name
	if f.Shorthand != "" {
		option = "-" + f.Shorthand + ", " + option
	}
	fmt.Fprintf(page, ".TP\n\\fB%s\\fP", roff(option))
	if value != "" {
		fmt.Fprintf(page, " \\fI%s\\fP", roff(value))
	}
	fmt.Fprintf(page, "\n%s\n", roff(usage))
}

// roff escapes text: hyphens that people copy stay ASCII, and no line starts a request.
func roff(text string) string {
	text = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(text)
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
			lines[i] = `\&` + line
		}
	}
	return strings.Join(lines, "\n")
}
