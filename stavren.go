// Package stavren checks definitions of virtual machines before launch and
// renders them for hypervisors, clouds and first-boot data.
//
// Start with [Load], which reads a definition file. [Check] then tells what
// would go wrong, and [Render] makes the files of a target:
//
//	fleet, err := stavren.Load(os.DirFS("."), "tide-office.stavren.yaml", stavren.LoadOptions{})
//	findings := stavren.Check(stavren.CheckOptions{}, fleet)
//	files, err := stavren.Render(ctx, fleet, "cloud-init", stavren.RenderOptions{})
//	err = stavren.WriteFolder("out", files)
//
// A fleet may also be built in Go, from the nouns of package fleet.
//
// Nothing here opens a socket or runs a program. Files are read through io/fs
// and written by [WriteFolder] alone. The packages stavren, fleet, finding,
// check and render keep their promises from version 1 on; until then they may
// change, and the changelog says how.
package stavren

import (
	"context"
	"fmt"
	"io/fs"
	"slices"

	"stavren.example/stavren/check"
	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/nearest"
	"stavren.example/stavren/internal/outfolder"
	"stavren.example/stavren/internal/source"
	"stavren.example/stavren/internal/targets/arm"
	"stavren.example/stavren/internal/targets/bhyve"
	"stavren.example/stavren/internal/targets/cloudformation"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/internal/targets/droplet"
	"stavren.example/stavren/internal/targets/gce"
	"stavren.example/stavren/internal/targets/heat"
	"stavren.example/stavren/internal/targets/libvirt"
	"stavren.example/stavren/internal/targets/oci"
	"stavren.example/stavren/internal/targets/ovf"
	"stavren.example/stavren/internal/targets/qemu"
	"stavren.example/stavren/internal/targets/seed"
	"stavren.example/stavren/render"
)

// LoadOptions changes how definitions are read; its zero value is for
// definitions that one does not trust.
type LoadOptions = source.Options

// CheckOptions changes what is checked. Its zero value checks what needs nothing
// from outside; give it today's date to hear of systems out of support.
type CheckOptions = check.Options

// RenderOptions changes what is rendered; its zero value renders every machine.
type RenderOptions = render.Options

// targets is every built-in target, in the order of the documentation.
var targets = []render.Target{
	cloudinit.Target,
	seed.Target,
	qemu.Target,
	libvirt.Target,
	ovf.Target,
	bhyve.Target,
	heat.Target,
	cloudformation.Target,
	arm.Target,
	gce.Target,
	oci.Target,
	droplet.Target,
}

// Load reads the definition of the given name, with the files that it names.
//
// A definition with faults gives an error that [Findings] takes apart: every
// fault of the file, with its place and remedy. Any other error means that the
// file itself could not be read.
func Load(files fs.FS, name string, options LoadOptions) (*fleet.Fleet, error) {
	return source.Load(files, name, options)
}

// Findings returns the findings within an error of [Load], [Render] or
// [Stream], or nil if the error is about something else.
func Findings(err error) []finding.Finding { return source.Faults(err) }

// Check returns everything that would go wrong, sorted by place. Fleets that
// will share a host are checked together, so that ports and addresses that meet
// across them are found. Fleets built in Go are to be completed before.
//
// What cannot work on a cloud that a definition speaks of is a warning here,
// since its machines may go elsewhere; [Needs] and rendering for it say error.
func Check(options CheckOptions, fleets ...*fleet.Fleet) []finding.Finding {
	findings := check.Run(options, fleets...)
	for _, f := range fleets {
		for _, said := range f.Platforms {
			target, err := Target(said.Name)
			if err != nil || !slices.Contains(Platforms(), said.Name) {
				continue // it is for another program
			}
			for _, m := range f.Machines {
				for _, found := range target.Needs(f, m) {
					if found.Severity == finding.Error && !accepts(m.Accept, found.Rule) && !accepts(f.Accept, found.Rule) {
						found.Severity = finding.Warning
						findings = append(findings, found)
					}
				}
			}
		}
	}
	return finding.Sort(findings)
}

// Rules returns the rule book: what reading a definition can find, what [Check]
// can, and what [Needs] can.
func Rules() []finding.Rule {
	return slices.Concat(source.Rules(), check.Rules(), check.TargetRules())
}

// Targets returns the built-in targets.
func Targets() []render.Target { return append([]render.Target(nil), targets...) }

// Target returns the built-in target of that name.
func Target(name string) (render.Target, error) {
	var names []string
	for _, target := range targets {
		if target.Name == name {
			return target, nil
		}
		names = append(names, target.Name)
	}
	return render.Target{}, fmt.Errorf("there is no target %q; %s", name, nearest.Remedy(name, names))
}

// Render makes the files of a target in memory. A fleet in which [Check] finds
// errors is refused, with the findings in the error.
func Render(ctx context.Context, f *fleet.Fleet, target string, options RenderOptions) ([]render.File, error) {
	t, err := Target(target)
	if err != nil {
		return nil, err
	}
	if err := Refusal(t, f, options.Machines...); err != nil {
		return nil, err
	}
	return render.All(ctx, t, f, options)
}

// Refusal returns the errors that keep machines from being rendered for a
// target, or nil; no names stand for all machines. Warnings and advice do not.
func Refusal(target render.Target, f *fleet.Fleet, machines ...string) error {
	var errors finding.Errors
	for _, found := range append(check.Run(CheckOptions{}, f), Needs(target, f, machines...)...) {
		if found.Severity == finding.Error {
			errors = append(errors, found)
		}
	}
	if len(errors) == 0 {
		return nil
	}
	return finding.Errors(finding.Sort(errors))
}

// Needs returns what machines lack for one target alone; no names stand for all
// machines.
func Needs(target render.Target, f *fleet.Fleet, machines ...string) []finding.Finding {
	if target.Needs == nil {
		return nil
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
	return finding.Sort(findings)
}

// accepts reports whether a list of accepted rules has one.
func accepts(list []fleet.Pair, rule string) bool {
	return slices.ContainsFunc(list, func(pair fleet.Pair) bool { return pair.Key == rule })
}

// WriteFolder writes rendered files below a folder: all of them, or none if
// anything is in the way. A file that Stavren did not write, or that was changed
// since, is never overwritten.
func WriteFolder(folder string, files []render.File) error {
	writer, err := outfolder.Open(folder)
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
