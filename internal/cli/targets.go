package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"stavren.example/stavren"
	"stavren.example/stavren/render"
)

func (s *session) targetsCommand() *cobra.Command {
	var format format
	c := &cobra.Command{
		Use:   "targets [TARGET]",
		Short: "List the targets, and how each treats every field",
		Long: `Targets lists the formats that render writes, the files of each, and a matrix of
how each treats every field. With the name of a target, it explains how the
target adapts fields and why it leaves others out.`,
		Example: "  stavren targets\n  stavren targets qemu",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			targets := stavren.Targets()
			if len(args) == 1 {
				target, err := stavren.Target(args[0])
				if err != nil {
					return err
				}
				targets = []render.Target{target}
			}
			if format == "json" {
				return s.printJSON(jsonTargets(targets))
			}
			s.printTargets(targets)
			if len(args) == 1 {
				s.printFates(targets[0])
			} else {
				s.printMatrix(targets)
			}
			return nil
		},
	}
	s.addFormat(c, &format)
	return c
}

func jsonTargets(targets []render.Target) []any {
	list := []any{}
	for _, target := range targets {
		fates := []any{}
		for _, fate := range target.Fates() {
			fates = append(fates, map[string]string{"field": fate.Field, "fate": fate.Outcome.String(),
				"how": fate.How})
		}
		list = append(list, map[string]any{"name": target.Name, "summary": target.Summary, "writes": target.Writes,
			"fates": fates})
	}
	return list
}

func (s *session) printTargets(targets []render.Target) {
	for _, target := range targets {
		fmt.Fprintf(s.stdout, "%s  %s\n  %s\n", heading(target.Name), target.Summary,
			dim("writes "+strings.Join(target.Writes, ", ")))
	}
}

// printFates prints every field that a target adapts or leaves out, and how or why.
func (s *session) printFates(target render.Target) {
	for _, outcome := range []render.Outcome{render.Adapted, render.LeftOut} {
		fates := target.Fates()
		notes := make([]render.Note, len(fates))
		for i, fate := range fates {
			notes[i].Fate = fate
		}
		list := ways(notes, outcome)
		if len(list) == 0 {
			continue
		}
		fmt.Fprintf(s.stdout, "\n%s by %s:\n", bold(outcome.String()), target.Name)
		for _, w := range list {
			fmt.Fprintf(s.stdout, "%s\n%s\n", wrapped(w.fields, 2), dimmed(wrapped(w.how, 6)))
		}
	}
}

// mark returns the sign of an outcome in the matrix.
func mark(outcome render.Outcome) string {
	switch outcome {
	case render.Carried:
		return "="
	case render.Adapted:
		return "~"
	}
	return "-"
}

// printMatrix prints one line per field and one column per target. Letters stand for
// targets, so that all columns fit on a terminal.
func (s *session) printMatrix(targets []render.Target) {
	fmt.Fprintf(s.stdout, "\n%s\n", bold("Fields by target:  = carried   ~ adapted   - left out"))
	outcomes := make([]map[string]render.Outcome, len(targets))
	letters := ""
	for i, target := range targets {
		letter := string(rune('a' + i))
		letters += " " + letter
		fmt.Fprintf(s.stdout, "  %s %-15s", letter, target.Name)
		if i%4 == 3 || i == len(targets)-1 {
			fmt.Fprintln(s.stdout)
		}
		outcomes[i] = map[string]render.Outcome{}
		for _, fate := range target.Fates() {
			outcomes[i][fate.Field] = fate.Outcome
		}
	}
	noun := ""
	for _, field := range render.Fields() {
		if of, _, _ := strings.Cut(field, "."); of != noun {
			noun = of
			fmt.Fprintf(s.stdout, "\n%-30s%s\n", noun, dim(letters))
		}
		fmt.Fprintf(s.stdout, "  %-28s", strings.TrimPrefix(field, noun+"."))
		for i := range targets {
			fmt.Fprint(s.stdout, " "+mark(outcomes[i][field]))
		}
		fmt.Fprintln(s.stdout)
	}
	fmt.Fprintf(s.stdout, "\n%s\n", dim("stavren targets TARGET explains how and why"))
}
