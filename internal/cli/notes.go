package cli

import (
	"fmt"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/render"
)

// way is a list of fields that a target adapts in one way, or leaves out for one
// reason, and whose they are if there are few.
type way struct{ fields, whose, how string }

// fewMachines is how many machines are named.
const fewMachines = 4

// ways groups notes of one outcome by how or why.
func ways(notes []render.Note, outcome render.Outcome) []way {
	var order []string
	fields, where := map[string][]string{}, map[string][]string{}
	mixed := map[string]bool{}
	for _, note := range notes {
		if note.Outcome != outcome {
			continue
		}
		if fields[note.How] == nil {
			order = append(order, note.How)
		}
		if fields[note.How] != nil && !slices.Equal(where[note.How], note.Where) {
			mixed[note.How] = true
		}
		fields[note.How] = append(fields[note.How], note.Field)
		where[note.How] = note.Where
	}
	var list []way
	for _, how := range order {
		w := way{fields: strings.Join(fields[how], ", "), how: how}
		if names := where[how]; !mixed[how] && len(names) > 0 && len(names) <= fewMachines && names[0] != "" {
			w.whose = " of " + strings.Join(names, ", ")
		}
		list = append(list, w)
	}
	return list
}

// printNotes reports every value that the target had to change or drop, grouped by
// how or why.
func (s *session) printNotes(target render.Target, notes []render.Note) {
	for _, outcome := range []render.Outcome{render.Adapted, render.LeftOut} {
		list := ways(notes, outcome)
		if len(list) == 0 {
			continue
		}
		s.talk("\n%s by %s:", bold(outcome.String()), target.Name)
		for _, w := range list {
			s.talk("%s\n%s", wrapped(w.fields+w.whose, 2), dimmed(wrapped(w.how, 6)))
		}
	}
}

// dimmed dims a text line by line, so that a pager shows every line dimmed.
func dimmed(text string) string {
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		lines[i] = dim(line)
	}
	return strings.Join(lines, "\n")
}

// maxSteps is how many steps are printed. README.txt has all of them.
const maxSteps = 12

// printSteps prints what to do with the files.
func (s *session) printSteps(output string, steps []render.Step) {
	if len(steps) == 0 {
		return
	}
	s.talk("\n%s in %s:", bold("next"), output)
	for i, step := range steps {
		if i == maxSteps {
			s.talk("  and %d more steps; --notes writes all of them to README.txt", len(steps)-maxSteps)
			break
		}
		s.talk("  %s\n      %s", dim("# "+step.About), step.Command)
	}
	for _, step := range steps {
		if step.Request != "" {
			s.talk("  %s", dim("--notes also writes these steps as HTTP requests, to README.txt"))
			break
		}
	}
}

// readme returns the file that --notes adds: steps, requests and fates.
func readme(target render.Target, f *fleet.Fleet, notes []render.Note, steps []render.Step) []byte {
	var text strings.Builder
	fmt.Fprintf(&text, "The fleet %s, rendered for %s by stavren.\n", f.Name, target.Name)
	if len(steps) > 0 {
		text.WriteString("\nRun these steps in this folder, in this order:\n")
	}
	for _, step := range steps {
		fmt.Fprintf(&text, "\n  # %s\n  %s\n", step.About, step.Command)
		if step.Request != "" {
			text.WriteString("\n  As an HTTP request:\n\n    " + strings.ReplaceAll(step.Request, "\n", "\n    ") +
				"\n")
		}
	}
	for _, outcome := range []render.Outcome{render.Adapted, render.LeftOut} {
		list := ways(notes, outcome)
		if len(list) == 0 {
			continue
		}
		fmt.Fprintf(&text, "\nWhat was %s:\n", outcome)
		for _, w := range list {
			fmt.Fprintf(&text, "\n  %s%s\n    %s\n", w.fields, w.whose, w.how)
		}
	}
	return []byte(text.String())
}
