// Package render turns a fleet into the files of a target: a hypervisor, a
// cloud or a form of first-boot data. A [Target] is a value; a program can make
// one of its own and hand it to [Stream] or [All] like a built-in one.
//
// Renderers are pure: they read no clock and no file, and the same fleet gives
// the same bytes. Files come machine by machine in the order of the fleet.
package render

import (
	"fmt"
	"io/fs"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// File is one file that a target writes.
type File struct {
	// Name is its path below the output folder, with slashes.
	Name string
	Data []byte
	// Mode is 0600 for a file that holds a secret.
	Mode fs.FileMode
}

// Target renders fleets into one format. Machine and Fleet may both be set.
type Target struct {
	Name string
	// Summary says in a line what the target is for.
	Summary string
	// Writes lists the files as patterns, such as "MACHINE/user-data".
	Writes []string
	// Fates says what becomes of each field of a definition.
	Fates []Fate
	// Tools lists the programs that the host needs to use the files.
	Tools []string
	// Needs reports what a machine lacks for this target alone, or is nil. It is
	// asked before rendering, so that nothing is rendered half.
	Needs func(f *fleet.Fleet, m *fleet.Machine) []finding.Finding
	// Machine renders the files of one machine. It may run at the same time as
	// the rendering of other machines and must not change the fleet.
	Machine func(job *Job, m *fleet.Machine) ([]File, error)
	// Fleet renders files that concern all machines; they come after those of
	// the machines.
	Fleet func(job *Job) ([]File, error)
}

// Job is what a renderer is asked to do.
type Job struct {
	Fleet   *fleet.Fleet
	Options Options
}

// Secret returns the value of the fleet's secret of that name.
func (j *Job) Secret(name string) (string, error) {
	secret := j.Fleet.Secret(name)
	if secret == nil {
		return "", fmt.Errorf("the secret %q is not defined", name)
	}
	if j.Options.Secrets == nil {
		return "", fmt.Errorf("the secret %q is needed, but the options of rendering do not say how to read secrets", name)
	}
	value, err := j.Options.Secrets(secret)
	if err != nil {
		return "", fmt.Errorf("the secret %q cannot be read: %w", name, err)
	}
	return value, nil
}

// Options changes what is rendered. The zero value renders every machine.
type Options struct {
	// Machines names the machines to render, or is empty for all.
	Machines []string
	// ImagePath returns the path of an image's file as seen from the output
	// folder, with slashes, or an absolute one. If it is nil, the file lies below
	// the output folder under the name that the definition gives it.
	ImagePath func(image *fleet.Image) string
	// Secrets reads a secret when it is needed. If it is nil, a fleet whose
	// rendered files hold secrets is refused.
	Secrets func(secret *fleet.Secret) (string, error)
}
