package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"stavren.example/stavren"
	"stavren.example/stavren/finding"
	"stavren.example/stavren/internal/nearest"
)

func (s *session) rulesCommand() *cobra.Command {
	var format format
	c := &cobra.Command{
		Use:     "rules [NAME]",
		Short:   "List the rules, or explain one with examples",
		Example: "  stavren rules\n  stavren rules port-claimed-twice",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			rules := stavren.Rules()
			if len(args) == 1 {
				rule, err := findRule(rules, args[0])
				if err != nil {
					return err
				}
				if format == "json" {
					return s.printJSON(jsonRule(rule))
				}
				s.printRule(rule)
				return nil
			}
			if format == "json" {
				list := []any{}
				for _, rule := range rules {
					list = append(list, jsonRule(rule))
				}
				return s.printJSON(list)
			}
			theme := ""
			for _, rule := range rules {
				if rule.Theme != theme {
					if theme != "" {
						fmt.Fprintln(s.stdout)
					}
					theme = rule.Theme
					fmt.Fprintln(s.stdout, heading(theme))
				}
				first, _, _ := strings.Cut(rule.Why, ". ")
				fmt.Fprintf(s.stdout, "  %-8s %s\n           %s\n", rule.Severity, bold(rule.Name),
					dim(strings.TrimSuffix(first, ".")+"."))
			}
			return nil
		},
	}
	s.addFormat(c, &format)
	return c
}

func findRule(rules []finding.Rule, name string) (finding.Rule, error) {
	var names []string
	for _, rule := range rules {
		if rule.Name == name {
			return rule, nil
		}
		names = append(names, rule.Name)
	}
	return finding.Rule{}, fmt.Errorf("unknown rule %q; %s", name, nearest.Remedy(name, names))
}

func (s *session) printRule(rule finding.Rule) {
	fmt.Fprintf(s.stdout, "%s  %s, %s\n\n%s\n", heading(rule.Name), severityStyle(rule.Severity), rule.Theme,
		wrapped(rule.Why, 0))
	for _, part := range []struct{ title, text string }{{"wrong", rule.Wrong}, {"right", rule.Right}} {
		if part.text != "" {
			fmt.Fprintf(s.stdout, "\n%s\n%s", bold(part.title), indent(part.text))
		}
	}
}

func jsonRule(rule finding.Rule) any {
	return map[string]any{"name": rule.Name, "severity": rule.Severity.String(), "theme": rule.Theme, "why": rule.Why,
		"wrong": rule.Wrong, "right": rule.Right}
}

func indent(text string) string {
	return "  " + strings.ReplaceAll(strings.TrimSuffix(text, "\n"), "\n", "\n  ") + "\n"
}
