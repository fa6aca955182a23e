package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stavren.example/stavren"
	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/hostfacts"
)

func (s *session) checkCommand() *cobra.Command {
	var load loadFlags
	var format format
	var strict, here bool
	var targets []string
	c := &cobra.Command{
		Use:   "check FILE...",
		Short: "Find what would go wrong, before launch",
		Long: `Check reads definitions and prints every finding: where it is, what is wrong and
how to fix it. Files that are checked together share a host, so check also
reports ports and addresses that collide across files. It exits with status 1 if
there are errors.

With --here, it also looks at this host: ports in use, memory and disk space,
image files and their checksums, permissions of private keys, bridges,
virtualisation.`,
		Example: "  stavren check tide-office.stavren.yaml\n  stavren check --strict --format json *.stavren.yaml",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			findings, fleets, err := s.findings(c.Context(), args, load, targets, here)
			if err != nil {
				return err
			}
			switch format {
			case "json":
				if err := s.printJSON(jsonFindings(findings)); err != nil {
					return err
				}
			case "sarif":
				if err := s.printSARIF(findings); err != nil {
					return err
				}
			case "lines":
				for _, found := range findings {
					fmt.Fprintln(s.stdout, found)
				}
			default:
				s.printFindings(s.stdout, findings)
				s.talkSum(fleets, findings)
			}
			errors, warnings, _ := finding.Count(findings)
			if errors > 0 || strict && warnings > 0 {
				return errFaults
			}
			return nil
		},
	}
	load.add(c)
	format = "text"
	c.Flags().Var(&formatFlag{&format, []string{"text", "json", "sarif", "lines"}}, "format",
		"text, json, sarif, or lines (one line per finding)")
	c.Flags().BoolVar(&strict, "strict", false, "treat warnings as errors")
	c.Flags().BoolVar(&here, "here", false, "also check this host")
	c.Flags().StringSliceVar(&targets, "for", nil, "also check what this `TARGET` needs")
	return c
}

// findings loads definitions and returns all findings, including faults of their
// form.
func (s *session) findings(ctx context.Context, names []string, load loadFlags, targets []string,
	here bool) ([]finding.Finding, []*fleet.Fleet, error) {
	fleets, err := s.loadAll(ctx, names, load)
	if faults := stavren.Findings(err); faults != nil {
		return finding.Sort(faults), nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	options := stavren.CheckOptions{Today: time.Now()}
	var tools []string
	var needs []finding.Finding
	for _, name := range targets {
		target, err := stavren.Target(name)
		if err != nil {
			return nil, nil, err
		}
		tools = append(tools, target.Tools...)
		for _, f := range fleets {
			lacks, err := stavren.Needs(target, f)
			if err != nil {
				return nil, nil, err
			}
			needs = append(needs, lacks...)
		}
	}
	if here {
		bar := s.progress("reading images", 0)
		options.Host, err = hostfacts.Look(ctx, s.files, fleets, tools, bar.add)
		bar.done()
		if err != nil {
			return nil, nil, fmt.Errorf("cannot look at this host: %w", err)
		}
	}
	findings, err := stavren.Check(ctx, options, fleets...)
	if err != nil {
		return nil, nil, err
	}
	return finding.Sort(append(findings, needs...)), fleets, nil
}

// talkSum ends the findings with a line that counts them.
func (s *session) talkSum(fleets []*fleet.Fleet, findings []finding.Finding) {
	text := summary(findings)
	if len(findings) > 0 && !s.quiet {
		s.talk("")
	}
	if len(fleets) > 0 {
		machines, names := 0, []string{}
		for _, f := range fleets {
			machines += len(f.Machines)
			if !slices.Contains(names, f.Name) {
				names = append(names, f.Name)
			}
		}
		text = strings.Join(names, ", ") + ": " + count(machines, "machine", "machines") + ", " + text
	}
	if len(findings) == 0 {
		text = good(text)
	}
	s.talk("%s", text)
}
