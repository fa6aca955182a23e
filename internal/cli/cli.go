// Package cli is the command line: arguments, terminal and exit codes. The library
// does the work.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"stavren.example/stavren"
	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/localfiles"
	"stavren.example/stavren/internal/nearest"
)

// Exit codes of the command.
const (
	exitGood   = 0
	exitFaults = 1 // the definition has errors
	exitUnable = 2 // the call or a file cannot be used
)

// errFaults ends a command whose findings have been printed.
var errFaults = errors.New("the definition has errors")

// Run runs one command and returns its exit code. Results go to stdout, messages to
// stderr.
func Run(ctx context.Context, args []string, stdin io.Reader, stdout, stderr io.Writer) int {
	return newSession(stdin, stdout, stderr, os.Environ(), "").run(ctx, args)
}

// session is one run of the command.
type session struct {
	stdin          io.Reader
	stdout, stderr *textWriter
	// output and terminal are the same two streams without the filter that removes
	// colour.
	output, terminal io.Writer
	environment      []string
	// files are read and written relative to this folder, which the demo changes.
	files localfiles.Files
	// quiet suppresses messages.
	quiet bool
}

// newSession wraps both streams, so that colour only reaches a terminal that supports
// it, unless NO_COLOR is set.
func newSession(stdin io.Reader, stdout, stderr io.Writer, environment []string, folder string) *session {
	return &session{
		stdin:       stdin,
		stdout:      newTextWriter(stdout, environment),
		stderr:      newTextWriter(stderr, environment),
		output:      stdout,
		terminal:    stderr,
		environment: environment,
		files:       localfiles.Files{Folder: folder},
	}
}

func (s *session) run(ctx context.Context, args []string) int {
	root := s.rootCommand()
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	if failed := s.stdout.failed; failed != nil && err == nil {
		err = fmt.Errorf("cannot write the output: %w", failed)
	}
	switch {
	case err == nil:
		return exitGood
	case errors.Is(err, errFaults):
		return exitFaults
	}
	if findings := stavren.Findings(err); findings != nil {
		s.printFindings(s.stderr, findings)
		s.talk("%s", summary(findings))
		return exitFaults
	}
	if errors.Is(err, context.Canceled) {
		fmt.Fprintln(s.stderr, "stavren: stopped by a signal; nothing was written")
		return exitUnable
	}
	fmt.Fprintln(s.stderr, "stavren: "+strings.TrimPrefix(err.Error(), "stavren: "))
	return exitUnable
}

func (s *session) rootCommand() *cobra.Command {
	root := &cobra.Command{
		Use:   "stavren",
		Short: "Check and render definitions of virtual machines",
		Long: `Stavren reads definitions of virtual machines, finds what would go wrong before
anything is launched, and renders them for hypervisors and clouds.

Start with:  stavren demo`,
		Version:       version(),
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          cobra.NoArgs,
		RunE:          func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	root.SetIn(s.stdin)
	root.SetOut(s.stdout)
	root.SetErr(s.stderr)
	root.SetVersionTemplate("stavren {{.Version}}\n")
	root.PersistentFlags().BoolVarP(&s.quiet, "quiet", "q", false, "print results only")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return fmt.Errorf("%w; see %s --help", err, c.CommandPath())
	})
	root.AddCommand(
		s.checkCommand(),
		s.showCommand(),
		s.renderCommand(),
		s.fitCommand(),
		s.reachCommand(),
		s.targetsCommand(),
		s.rulesCommand(),
		s.serveCommand(),
		s.newCommand(),
		s.schemaCommand(),
		s.demoCommand(),
		s.manualCommand(),
	)
	return root
}

// version returns the module's version, or "devel" for a build from a work tree.
func version() string {
	if info, ok := debug.ReadBuildInfo(); ok && info.Main.Version != "" && info.Main.Version != "(devel)" {
		return info.Main.Version
	}
	return "devel"
}

// talk prints a message that isn't a result.
func (s *session) talk(format string, args ...any) {
	if !s.quiet {
		fmt.Fprintf(s.stderr, format+"\n", args...)
	}
}

// loadFlags are the flags of every command that reads definitions.
type loadFlags struct {
	allowOutside bool
	variant      string
}

func (l *loadFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&l.variant, "variant", "", "apply the definition's `VARIANT`")
	c.Flags().BoolVar(&l.allowOutside, "allow-outside", false, "let a definition read files outside its folder")
}

func (s *session) load(ctx context.Context, name string, flags loadFlags) (*fleet.Fleet, error) {
	return stavren.Load(ctx, s.files, name, stavren.LoadOptions{AllowOutside: flags.allowOutside, Variant: flags.variant})
}

// loadAll loads several definitions. It returns the faults of all of them together.
func (s *session) loadAll(ctx context.Context, names []string, flags loadFlags) ([]*fleet.Fleet, error) {
	var fleets []*fleet.Fleet
	var faults finding.Errors
	for _, name := range names {
		f, err := s.load(ctx, name, flags)
		if found := stavren.Findings(err); found != nil {
			faults = append(faults, found...)
			continue
		}
		if err != nil {
			return nil, err
		}
		fleets = append(fleets, f)
	}
	if len(faults) > 0 {
		return nil, faults
	}
	return fleets, nil
}

// loadMachines loads the definition that the first argument names, and returns the
// machine that the second one names, or all.
func (s *session) loadMachines(ctx context.Context, args []string, flags loadFlags) (*fleet.Fleet,
	[]*fleet.Machine, error) {
	f, err := s.load(ctx, args[0], flags)
	if err != nil {
		return nil, nil, err
	}
	if len(args) < 2 {
		return f, f.Machines, nil
	}
	if m := f.Machine(args[1]); m != nil {
		return f, []*fleet.Machine{m}, nil
	}
	var names []string
	for _, m := range f.Machines {
		names = append(names, m.Name)
	}
	return nil, nil, fmt.Errorf("fleet %s has no machine %q; %s", f.Name, args[1], nearest.Remedy(args[1], names))
}

// format is the value of --format.
type format string

func (s *session) addFormat(c *cobra.Command, f *format) {
	*f = "text"
	c.Flags().Var(&formatFlag{f, []string{"text", "json"}}, "format", "text or json")
}

// formatFlag accepts the formats that a command has.
type formatFlag struct {
	value *format
	known []string
}

func (f *formatFlag) String() string { return string(*f.value) }
func (f *formatFlag) Type() string   { return "FORMAT" }
func (f *formatFlag) Set(text string) error {
	if !slices.Contains(f.known, text) {
		return errors.New("write " + strings.Join(f.known, " or "))
	}
	*f.value = format(text)
	return nil
}
