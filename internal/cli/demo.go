package cli

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"stavren.example/stavren/examples"
	"stavren.example/stavren/internal/outfolder"
)

// demoSteps are the steps of the demo: an introduction, and the command to run.
var demoSteps = []struct {
	intro string
	args  []string
}{
	{"Someone wrote a definition in a hurry. Check reports everything that is wrong with\nits form:",
		[]string{"check", "rougher-seas.stavren.yaml"}},
	{"This one is well-formed, but its machines would not work. Check knows before launch.\n" +
		"Here it prints one line per finding, without the source lines and remedies:",
		[]string{"check", "rough-seas.stavren.yaml", "--format", "lines"}},
	{"The tide office's own fleet passes:", []string{"check", "tide-office.stavren.yaml"}},
	{"Show prints a machine as it will be created, including every default:",
		[]string{"show", "tide-office.stavren.yaml", "almanac"}},
	{"Render writes what a hypervisor needs, and reports what it had to change or drop:",
		[]string{"render", "qemu", "tide-office.stavren.yaml", "--machine", "almanac", "-o", "out"}},
	{"The same definition works for clouds. Fit picks sizes and compares what they cost\n" +
		"according to a price sheet, which is made up here:",
		[]string{"fit", "tide-office.stavren.yaml", "--prices", "prices.csv", "--for", "heat,cloudformation,gce",
			"--variant", "none,rehearsal", "--totals"}},
	{"Reach prints how to log in:", []string{"reach", "tide-office.stavren.yaml", "almanac"}},
}

func (s *session) demoCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "demo [FOLDER]",
		Short: "Run the main commands on a built-in fleet",
		Long: `Demo writes the definitions of a made-up tide office to a folder, by default a
temporary one, and runs the main commands on them. Nothing is launched.`,
		Example: "  stavren demo\n  stavren demo tides",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			folder, err := s.demoFolder(c.Context(), args)
			if err != nil {
				return err
			}
			return s.demo(c.Context(), folder)
		},
	}
}

// demoFolder creates and fills the folder of the demo. The folder of an earlier demo
// can be used again; other files in it are left alone.
func (s *session) demoFolder(ctx context.Context, args []string) (string, error) {
	var folder string
	var err error
	if len(args) == 1 {
		folder = s.files.Path(args[0])
	} else if folder, err = os.MkdirTemp("", "stavren-demo-"); err != nil {
		return "", fmt.Errorf("the demo needs a temporary folder: %w", err)
	}
	writer, err := outfolder.Open(ctx, folder, nil)
	if err != nil {
		return "", err
	}
	defer writer.Close()
	office := examples.TideOffice()
	err = fs.WalkDir(office, ".", func(name string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		data, err := fs.ReadFile(office, name)
		if err != nil {
			return err
		}
		return writer.Add(name, data, 0o644)
	})
	if err != nil {
		return "", fmt.Errorf("cannot write the demo's files: %w", err)
	}
	_, err = writer.Commit(false)
	return folder, err
}

func (s *session) demo(ctx context.Context, folder string) error {
	fmt.Fprintf(s.stdout, "The Skerry Tide Office reads gauges along a rocky coast and publishes tide\n"+
		"tables. Its definitions are now in %s\n", folder)
	inside := newSession(s.stdin, s.output, s.terminal, s.environment, folder)
	// Both streams go to one place here, since people read the demo.
	inside.stderr, inside.terminal = inside.stdout, inside.output
	for _, step := range demoSteps {
		if err := ctx.Err(); err != nil {
			return err
		}
		fmt.Fprintf(s.stdout, "\n%s\n\n%s\n", step.intro, bold("$ stavren "+strings.Join(step.args, " ")))
		if code := inside.run(ctx, step.args); code == exitUnable {
			return fmt.Errorf("the demo's step %q failed", strings.Join(step.args, " "))
		}
	}
	image := "images/debian-12-generic-amd64.qcow2"
	fmt.Fprintf(s.stdout, `
%s
  cd %s
  stavren rules port-claimed-twice        a rule and its examples
  stavren show --origins tide-office.stavren.yaml store
  stavren show --filled tide-office.stavren.yaml
  stavren render cloud-init tide-office.stavren.yaml --machine almanac --only user-data -o -
  stavren fit tide-office.stavren.yaml --prices prices.csv
  stavren targets libvirt                 what a target carries, adapts and leaves out
  stavren new mine --purpose web
Other machines have secrets, which render reads from the environment:
  export TIDE_DATABASE_PASSWORD=made-up TIDE_JONAS_PASSWORD=made-up TIDE_SCREEN_PASSWORD=made-up
To start a machine, save a Debian 12 cloud image as
  %s
and run  sh out/almanac/run.sh
`, heading("What to try next"), folder, filepath.Join(folder, image))
	return nil
}
