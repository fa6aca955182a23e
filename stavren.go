// Package stavren checks definitions of virtual machines before launch and renders
// them for hypervisors, clouds and first-boot data.
//
// Start with [Load], which reads a definition file. [Check] then reports what would
// go wrong, and [Render] makes the files of a target:
//
//	root, err := os.OpenRoot(".")
//	fleet, err := stavren.Load(ctx, root.FS(), "tide-office.stavren.yaml", stavren.LoadOptions{})
//	findings, err := stavren.Check(ctx, stavren.CheckOptions{}, fleet)
//	files, err := stavren.Render(ctx, fleet, "cloud-init", stavren.RenderOptions{})
//	err = stavren.WriteFolder(ctx, "out", files)
//
// A fleet can also be built in Go, from the nouns of package fleet.
//
// Nothing here opens a socket or runs a program. Files are read through io/fs, and
// only [WriteFolder] writes any. The packages stavren, fleet, finding, check and
// render keep their promises from version 1 on. Until then they may change, and the
// changelog says how.
package stavren

import (
	"context"
	"fmt"
	"io/fs"
	"slices"

	"stavren.example/stavren/check"
	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
	"stavren.example/stavren/internal/load"
	"stavren.example/stavren/internal/nearest"
	"stavren.example/stavren/internal/outfolder"
	"stavren.example/stavren/internal/targets"
	"stavren.example/stavren/render"
)

// LoadOptions changes how definitions are read. The zero value suits definitions that
// you don't trust, if the file system follows no links out of itself: os.Root.FS does
// not, while os.DirFS does.
type LoadOptions struct {
	// AllowOutside lets definitions read files outside their folder.
	AllowOutside bool
	// Variant names the variant to apply, or is empty for none.
	Variant string
}

// CheckOptions changes what is checked. The zero value checks everything that needs
// no information from outside the definition; set today's date to hear of systems
// that are no longer supported.
type CheckOptions = check.Options

// RenderOptions changes what is rendered. The zero value renders every machine.
type RenderOptions = render.Options

// Load reads a definition and the files that it names.
//
// If the definition has faults, [Findings] returns them from the error: every fault
// of the file, with its place and remedy. Any other error means that the file itself
// could not be read, or that the context ended.
func Load(ctx context.Context, files fs.FS, name string, options LoadOptions) (*fleet.Fleet, error) {
	return load.Load(ctx, files, name, load.Options(options))
}

// Findings returns the findings in an error of [Load], [Render] or [Refusal], or nil
// if the error is about something else.
func Findings(err error) []finding.Finding { return load.Faults(err) }

// Check returns everything that would go wrong, sorted by place. Check fleets that
// will share a host together, so that it finds ports and addresses that conflict
// across them. Fleets built in Go have to be completed first; Check fails for one that
// has not been, and if the context ends.
//
// What can't work on a cloud that a definition has settings for is a warning here,
// since its machines may go elsewhere. [Needs] and rendering report it as an error.
func Check(ctx context.Context, options CheckOptions, fleets ...*fleet.Fleet) ([]finding.Finding, error) {
	findings, err := check.Run(ctx, options, fleets...)
	if err != nil {
		return nil, err
	}
	for _, f := range fleets {
		for _, platform := range f.Platforms {
			if !slices.Contains(Clouds(), platform.Name) {
				continue // a hypervisor, or for another program
			}
			target, err := Target(platform.Name)
			if err != nil {
				continue
			}
			for _, m := range f.Machines {
				for _, found := range target.Needs(f, m) {
					if found.Severity == finding.Error && !accepts(m.Accept, found.Rule) &&
						!accepts(f.Accept, found.Rule) {
						found.Severity = finding.Warning
						findings = append(findings, found)
					}
				}
			}
		}
	}
	return finding.Sort(findings), nil
}

// Rules returns the rule book: what [Load], [Check] and [Needs] can find.
func Rules() []finding.Rule {
	return slices.Concat(document.Rules(), check.Rules(), check.TargetRules())
}

// Targets returns the built-in targets.
func Targets() []render.Target { return targets.All() }

// Target returns the built-in target of that name.
func Target(name string) (render.Target, error) {
	var names []string
	for _, target := range targets.All() {
		if target.Name == name {
			return target, nil
		}
		names = append(names, target.Name)
	}
	return render.Target{}, fmt.Errorf("unknown target %q; %s", name, nearest.Remedy(name, names))
}

// Render makes the files of a target in memory. It refuses a fleet in which [Check]
// finds errors, with the findings in the error.
func Render(ctx context.Context, f *fleet.Fleet, target string, options RenderOptions) ([]render.File, error) {
	t, err := Target(target)
	if err != nil {
		return nil, err
	}
	if err := Refusal(ctx, t, f, options.Machines...); err != nil {
		return nil, err
	}
	return render.All(ctx, t, f, options)
}

// Refusal returns the errors that keep machines from being rendered for a target, or
// nil. Without names, it looks at all machines. Like [Check], it fails for a fleet that
// has not been completed.
func Refusal(ctx context.Context, target render.Target, f *fleet.Fleet, machines ...string) error {
	findings, err := check.Run(ctx, CheckOptions{}, f)
	if err != nil {
		return err
	}
	needs, err := Needs(target, f, machines...)
	if err != nil {
		return err
	}
	var errors finding.Errors
	for _, found := range append(findings, needs...) {
		if found.Severity == finding.Error {
			errors = append(errors, found)
		}
	}
	if len(errors) == 0 {
		return nil
	}
	return finding.Errors(finding.Sort(errors))
}

// Needs returns what machines lack for one target. Without names, it looks at all
// machines. Like [Check], it fails for a fleet that has not been completed.
func Needs(target render.Target, f *fleet.Fleet, machines ...string) ([]finding.Finding, error) {
	if err := f.CheckComplete(); err != nil || target.Needs == nil {
		return nil, err
	}
	var findings []finding.Finding
	for _, m := range f.Machines {
		if len(machines) == 0 || slices.Contains(machines, m.Name) {
			for _, found := range target.Needs(f, m) {
				if found.Severity == finding.Error || !accepts(m.Accept, found.Rule) && !accepts(f.Accept, found.Rule) {
					findings = append(findings, found)
				}
			}
		}
	}
	return finding.Sort(findings), nil
}

// accepts reports whether a list of accepted rules includes one.
func accepts(list []fleet.Pair, rule string) bool {
	return slices.ContainsFunc(list, func(pair fleet.Pair) bool { return pair.Key == rule })
}

// WriteFolder writes rendered files below a folder: all of them, or none if anything
// is in the way. It never overwrites a file that Stavren did not write or that was
// changed since. While another process writes to the folder, it waits.
func WriteFolder(ctx context.Context, folder string, files []render.File) error {
	writer, err := outfolder.Open(ctx, folder, nil)
	if err != nil {
		return err
	}
	defer writer.Close()
	for _, file := range files {
		if err := writer.Add(file.Name, file.Data, file.Mode); err != nil {
			return err
		}
	}
	_, err = writer.Commit(false)
	return err
}
