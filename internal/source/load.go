// Package source reads definition files into a fleet: YAML to nodes by the YAML
// package, and from there our own strict reader, which knows the place of every
// value and tells all faults of a file in one run.
//
// The language itself is the tables in the files keys_*.go. A key that is added
// there is read, documented and shown.
package source

import (
	"errors"
	"fmt"
	"io"
	"io/fs"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// Options changes how a definition is read. The zero value is what is wanted
// for a file that one does not trust.
type Options struct {
	// AllowOutside lets definitions take in files from outside their folder.
	AllowOutside bool
}

// reader reads one definition.
type reader struct {
	files    fs.FS
	options  Options
	path     trail
	faults   []finding.Finding
	unlisted int
	contents map[string]contentRead
	folders  map[string]fs.FS
}

// Load reads the definition of the given name and completes it. A definition
// with faults gives [finding.Errors], sorted by place; any other error means
// that the file itself could not be read.
func Load(files fs.FS, name string, options Options) (*fleet.Fleet, error) {
	file, err := files.Open(name)
	if err != nil {
		return nil, fmt.Errorf("cannot read the definition %q: %w", name, reason(err))
	}
	defer file.Close()
	if info, err := file.Stat(); err == nil && info.IsDir() {
		return nil, fmt.Errorf("cannot read the definition %q: it is a folder", name)
	}
	data, err := io.ReadAll(io.LimitReader(file, MaxDefinition+1))
	if err != nil {
		return nil, fmt.Errorf("cannot read the definition %q: %w", name, reason(err))
	}
	return Parse(files, name, data, options)
}

// Parse is Load for a definition whose bytes are at hand; files is where the
// files that it names lie.
func Parse(files fs.FS, name string, data []byte, options Options) (*fleet.Fleet, error) {
	r := &reader{files: files, options: options, contents: map[string]contentRead{}, folders: map[string]fs.FS{}}
	result := &fleet.Fleet{}
	if document := r.parse(name, data); document != nil {
		top := layer{node: document.root, document: document}
		if r.plainNode(top) {
			fleetTable.read(r, view{top}, result)
		}
	}
	if r.unlisted > 0 {
		r.faults = append(r.faults, finding.Finding{
			Rule: string(ruleTooManyFaults), Severity: readingSeverity, Place: r.faults[len(r.faults)-1].Place,
			Message: fmt.Sprintf("%d more faults are not listed", r.unlisted),
			Remedy:  "mend the first ones and look again; they often have one cause",
		})
	}
	if len(r.faults) > 0 {
		return nil, finding.Errors(finding.Sort(r.faults))
	}
	result.Complete()
	return result, nil
}

// Faults returns the findings within an error of Load, or nil if it has none.
func Faults(err error) []finding.Finding {
	var faults finding.Errors
	if errors.As(err, &faults) {
		return faults
	}
	return nil
}
