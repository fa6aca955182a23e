package cli

import (
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"stavren.example/stavren"
	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/outfolder"
	"stavren.example/stavren/render"
)

// renderCall holds the flags of one call of render.
type renderCall struct {
	load     loadFlags
	output   string
	machines []string
	only     string
	force    bool
	archive  bool
	notes    bool
	strict   bool
	cost     costFlags
}

func (s *session) renderCommand() *cobra.Command {
	var call renderCall
	c := &cobra.Command{
		Use:   "render TARGET FILE -o FOLDER",
		Short: "Write the files of a target, and report what it could not carry",
		Long: `Render writes the files that a hypervisor, a cloud or a machine's first boot
reads, all of them or none. Then it reports every value that the target had to
change or drop. It refuses a definition in which check finds errors. With -o -
it prints a single file.`,
		Example: "  stavren render qemu tide-office.stavren.yaml -o out\n" +
			"  stavren render cloud-init tide-office.stavren.yaml --machine store --only user-data -o -",
		Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			return s.render(c.Context(), args[0], args[1], call)
		},
	}
	call.load.add(c)
	call.cost.add(c)
	c.Flags().StringVarP(&call.output, "output", "o", "", "folder to write to, or - for standard output")
	c.Flags().StringSliceVar(&call.machines, "machine", nil, "render only this `MACHINE`; may be repeated")
	c.Flags().StringVar(&call.only, "only", "", "with -o -, print this `FILE` of several")
	c.Flags().BoolVar(&call.force, "force", false, "overwrite files that stavren did not write")
	c.Flags().BoolVar(&call.archive, "archive", false, "write one file per machine if the format allows it (ovf)")
	c.Flags().BoolVar(&call.notes, "notes", false, "also write README.txt: the next steps, and what was not carried")
	c.Flags().BoolVar(&call.strict, "strict", false, "write nothing if the output would have placeholders to replace")
	if err := c.MarkFlagRequired("output"); err != nil {
		panic(err) // the flag is defined above
	}
	return c
}

func (s *session) render(ctx context.Context, targetName, definition string, call renderCall) error {
	target, err := stavren.Target(targetName)
	if err != nil {
		return err
	}
	f, err := s.load(ctx, definition, call.load)
	if err != nil {
		return err
	}
	if err := s.useSizes(f, call.cost); err != nil {
		return err
	}
	if err := stavren.Refusal(ctx, target, f, call.machines...); err != nil {
		var findings finding.Errors
		if errors.As(err, &findings) {
			s.printFindings(s.stderr, findings)
			s.talk("\n%s; nothing was written", summary(findings))
			return errFaults
		}
		return err
	}
	left, err := placeholders(target, f, call.machines)
	if err != nil {
		return err
	}
	if call.strict && len(left) > 0 {
		s.printFindings(s.stderr, left)
		s.talk("\n%s to replace; nothing was written", count(len(left), "placeholder", "placeholders"))
		return errFaults
	}
	options := render.Options{Machines: call.machines, Archive: call.archive,
		Secrets: func(secret *fleet.Secret) (string, error) {
			return s.files.ReadSecret(secret, s.environment, call.load.allowOutside)
		}}
	if err := s.chooseByPrice(&options, target, f, call.cost); err != nil {
		return err
	}
	if call.output == "-" {
		return s.renderToStdout(ctx, target, f, options, call.only)
	}
	if call.only != "" {
		return errors.New("--only works only with -o -")
	}
	if options.Output, err = filepath.Abs(s.files.Path(call.output)); err != nil {
		return fmt.Errorf("cannot find the output folder: %w", err)
	}
	options.FilePath = s.filePath(options.Output)
	if err := s.renderToFolder(ctx, target, f, options, call); err != nil {
		return err
	}
	s.printPlaceholders(left)
	return nil
}

// chooseByPrice makes machines without a named size get the cheapest that a price sheet
// knows.
func (s *session) chooseByPrice(options *render.Options, target render.Target, f *fleet.Fleet, cost costFlags) error {
	prices, err := s.readPrices(cost)
	if err != nil || prices == nil || !slices.Contains(stavren.Clouds(), target.Name) {
		return err
	}
	s.printUnknownPrices(prices, f, cost)
	options.Size = func(m *fleet.Machine) string {
		if o, _, err := stavren.Choose(f, m, target.Name, prices); err == nil && o.Known {
			return o.Size.Name
		}
		return "" // refused before, or not priced
	}
	return nil
}

func (s *session) renderToFolder(ctx context.Context, target render.Target, f *fleet.Fleet, options render.Options,
	call renderCall) error {
	folder, err := outfolder.Open(ctx, s.files.Path(call.output), func() {
		s.talk("waiting for another stavren that writes to %s", call.output)
	})
	if err != nil {
		return err
	}
	defer folder.Close()
	bar := s.progress("rendering", len(f.Machines))
	err = render.Stream(ctx, target, f, options, func(file render.File) error {
		bar.at(file.Name)
		return folder.Add(file.Name, file.Data, file.Mode)
	})
	bar.done()
	if err != nil {
		return err
	}
	notes := render.Notes(target, f, options)
	steps, err := render.Steps(target, f, options)
	if err != nil {
		return err
	}
	if call.notes {
		if err := folder.Add("README.txt", readme(target, f, notes, steps), 0o644); err != nil {
			return err
		}
	}
	written, err := folder.Commit(call.force)
	if err != nil {
		return err
	}
	s.printWritten(call.output, written)
	s.printNotes(target, notes)
	s.printSteps(call.output, steps)
	return nil
}

// placeholders returns what a target reports of values that the definition doesn't give,
// each once.
func placeholders(target render.Target, f *fleet.Fleet, machines []string) ([]finding.Finding, error) {
	needs, err := stavren.Needs(target, f, machines...)
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	var left []finding.Finding
	for _, need := range needs {
		if need.Rule == "placeholder-left" && !seen[need.Message] {
			seen[need.Message] = true
			left = append(left, need)
		}
	}
	return left, nil
}

// printPlaceholders lists what has to be replaced in the output before it can be used.
func (s *session) printPlaceholders(left []finding.Finding) {
	if len(left) == 0 {
		return
	}
	s.talk("\nto replace before you use them, or to give in the definition:")
	for _, found := range left {
		s.talk("  %s", found.Message)
		s.talk("      %s", found.Remedy)
	}
}

// folderOf returns the folder of a rendered file.
func folderOf(file string) string { return path.Dir(file) }

// maxListed is how many files are listed.
const maxListed = 30

func (s *session) printWritten(output string, written outfolder.Written) {
	type line struct{ name, state string }
	var lines []line
	for _, group := range []struct {
		names []string
		state string
	}{{written.New, "new"}, {written.Changed, "changed"}, {written.Same, "unchanged"}} {
		for _, name := range group.names {
			lines = append(lines, line{path.Join(filepath.ToSlash(output), name), group.state})
		}
	}
	slices.SortStableFunc(lines, func(a, b line) int { return strings.Compare(a.name, b.name) })
	width := 0
	for _, l := range lines[:min(len(lines), maxListed)] {
		width = max(width, len(l.name))
	}
	for i, l := range lines {
		if i == maxListed {
			fmt.Fprintf(s.stdout, "and %d more\n", len(lines)-maxListed)
			break
		}
		fmt.Fprintf(s.stdout, "%-*s  %s\n", width, l.name, dim(l.state))
	}
	s.talk("%s", good(fmt.Sprintf("%s: %d new, %d changed, %d unchanged", count(len(lines), "file", "files"),
		len(written.New), len(written.Changed), len(written.Same))))
}

func (s *session) renderToStdout(ctx context.Context, target render.Target, f *fleet.Fleet, options render.Options,
	only string) error {
	files, err := render.All(ctx, target, f, options)
	if err != nil {
		return err
	}
	var chosen []render.File
	var names []string
	for _, file := range files {
		names = append(names, file.Name)
		if only == "" || file.Name == only || path.Base(file.Name) == only {
			chosen = append(chosen, file)
		}
	}
	if len(names) > maxListed {
		names = append(names[:maxListed], fmt.Sprintf("and %d more", len(files)-maxListed))
	}
	switch len(chosen) {
	case 1:
		_, err := s.output.Write(chosen[0].Data)
		return err
	case 0:
		return fmt.Errorf("%s writes no file %q; it writes %s", target.Name, only, strings.Join(names, ", "))
	}
	return fmt.Errorf("-o - prints one file, but %s writes %s; choose with --machine and --only", target.Name,
		strings.Join(names, ", "))
}

// filePath returns a function that gives the path of a definition's file as seen from
// the output folder, so that both can be moved together.
func (s *session) filePath(output string) func(folder, file string) string {
	return func(folder, file string) string {
		if path.IsAbs(file) {
			return file
		}
		name := path.Join(folder, file)
		to, err := filepath.Abs(s.files.Path(name))
		if err != nil {
			return name
		}
		relative, err := filepath.Rel(output, to)
		if err != nil {
			return filepath.ToSlash(to)
		}
		return filepath.ToSlash(relative)
	}
}
