// Package render turns a fleet into the files of a target: a hypervisor, a cloud or a
// form of first-boot data. A [Target] is a value. A program can make one of its own
// and pass it to [Stream] or [All] like a built-in one.
//
// Renderers are pure: they read no clock and no file, and the same fleet gives the
// same bytes. Files come machine by machine, in the order of the fleet.
package render

import (
	"encoding/hex"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"golang.org/x/crypto/scrypt"

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
	// Summary says in one line what the target is for.
	Summary string
	// Writes lists the files as patterns, such as "MACHINE/user-data".
	Writes []string
	// Fates returns what becomes of each field of a definition.
	Fates func() []Fate
	// Overrides returns the fates that differ for one machine, such as for one whose
	// system reads less. It may be nil.
	Overrides func(job *Job, m *fleet.Machine) []Fate
	// Tools lists the programs that the host needs to use the files.
	Tools []string
	// Needs returns what a machine lacks for this target. It is called before
	// rendering, so that nothing is rendered half. It may be nil.
	Needs func(f *fleet.Fleet, m *fleet.Machine) []finding.Finding
	// Machine renders the files of one machine. It may run in parallel for several
	// machines and must not change the fleet.
	Machine func(job *Job, m *fleet.Machine) ([]File, error)
	// Fleet renders files that concern all machines. They come after those of the
	// machines.
	Fleet func(job *Job) ([]File, error)
	// Steps returns what to do with the files of some machines, in order. It may be
	// nil.
	Steps func(job *Job, machines []*fleet.Machine) []Step
}

// Step is one thing that a person does with rendered files. It never contains a
// credential.
type Step struct {
	// About says what it does, in a few words.
	About string
	// Command runs in the output folder. It may be empty.
	Command string
	// Request is an HTTP request that does the same, or empty: method and URL on its
	// first line, then headers, an empty line, and the name of the file that is its
	// body.
	Request string
}

// Job is one rendering of a fleet.
type Job struct {
	Fleet   *fleet.Fleet
	Options Options

	once      sync.Once
	stretched *Job
}

// Secret returns the value of a secret of the fleet.
func (j *Job) Secret(name string) (string, error) {
	secret := j.Fleet.Secret(name)
	if secret == nil {
		return "", fmt.Errorf("the secret %q is not defined", name)
	}
	if j.Options.Secrets == nil {
		return "", fmt.Errorf("the secret %q is needed, but the options of rendering do not say how to read secrets",
			name)
	}
	value, err := j.Options.Secrets(secret)
	if err != nil {
		return "", fmt.Errorf("the secret %q cannot be read: %w", name, err)
	}
	return value, nil
}

// Stretched returns a job with other secrets: slow hashes of the real ones (scrypt, RFC
// 7914). What everyone can read must not be derived fast from a secret, or people could
// guess it. Use this job for what has to change with a secret without containing it.
// Each secret is hashed once.
func (j *Job) Stretched() *Job {
	j.once.Do(func() {
		type hash struct {
			once sync.Once
			text string
			err  error
		}
		hashes := make(map[string]*hash, len(j.Fleet.Secrets))
		for _, secret := range j.Fleet.Secrets {
			hashes[secret.Name] = &hash{}
		}
		options := j.Options
		options.Secrets = func(secret *fleet.Secret) (string, error) {
			h := hashes[secret.Name]
			h.once.Do(func() {
				var value string
				if value, h.err = j.Secret(secret.Name); h.err == nil {
					h.text, h.err = stretch(value, j.Fleet.Name, secret.Name)
				}
			})
			return h.text, h.err
		}
		j.stretched = &Job{Fleet: j.Fleet, Options: options}
	})
	return j.stretched
}

// stretch hashes a secret with the cost that RFC 7914 calls interactive: some 50
// milliseconds and 32 MiB for each guess.
func stretch(value string, names ...string) (string, error) {
	key, err := scrypt.Key([]byte(value), []byte(strings.Join(names, "\x00")), 1<<15, 8, 1, 32)
	return hex.EncodeToString(key), err
}

// Machines returns the machines that the options choose. It leaves out names that the
// fleet doesn't have; [Stream] refuses them before a renderer is called.
func (j *Job) Machines() []*fleet.Machine {
	if len(j.Options.Machines) == 0 {
		return j.Fleet.Machines
	}
	var machines []*fleet.Machine
	for _, name := range j.Options.Machines {
		if m := j.Fleet.Machine(name); m != nil && !slices.Contains(machines, m) {
			machines = append(machines, m)
		}
	}
	return machines
}

// Path returns where a machine's folder finds a file that the definition names, such
// as an image: absolute, or relative to the folder MACHINE.
func (j *Job) Path(folder, file string) string {
	name := file
	if !path.IsAbs(file) {
		name = path.Join(folder, file)
	}
	if j.Options.FilePath != nil {
		name = j.Options.FilePath(folder, file)
	}
	if path.IsAbs(name) {
		return name
	}
	return "../" + path.Clean(name)
}

// AbsolutePath is like Path, for targets that need absolute paths.
func (j *Job) AbsolutePath(folder, file string) string {
	name := j.Path(folder, file)
	if path.IsAbs(name) {
		return name
	}
	output := j.Options.Output
	if output == "" {
		output = "/OUTPUT"
	}
	return path.Join(output, "MACHINE", name) // name starts with ".."
}

// Options changes what is rendered. The zero value renders every machine.
type Options struct {
	// Machines names the machines to render, or is empty for all.
	Machines []string
	// FilePath returns the path, as seen from the output folder, of a file that the
	// definition names relative to a folder. It is absolute or has slashes. If
	// FilePath is nil, the file has the same name below the output folder.
	FilePath func(folder, file string) string
	// Output is the absolute path of the output folder, for targets whose files need
	// absolute paths. If it is empty, /OUTPUT is used.
	Output string
	// Archive asks targets for one file per machine, if they have such a form.
	Archive bool
	// Size returns the size that a machine gets on a cloud if the definition names
	// none. If it is nil or returns "", the machine gets the closest fit.
	Size func(m *fleet.Machine) string
	// Secrets reads a secret when it is needed. If it is nil, rendering files with
	// secrets fails.
	Secrets func(secret *fleet.Secret) (string, error)
}
