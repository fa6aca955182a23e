// Package source reads definition files into a fleet: YAML to nodes by the YAML
// package, and from there our own strict reader, which knows the place of every
// value and tells all faults of a file in one run.
//
// The language itself is the tables in the files keys_*.go. A key that is added
// there is read, documented, described to editors and shown.
package source

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/nearest"
)

// Options changes how a definition is read. The zero value is what is wanted
// for a file that one does not trust.
type Options struct {
	// AllowOutside lets definitions take in files from outside their folder.
	AllowOutside bool
	// Variant names the variant to apply, or is empty for none.
	Variant string
}

// UnknownVariantError says that a definition has no variant of that name.
type UnknownVariantError struct {
	Name  string
	Known []string
}

func (e *UnknownVariantError) Error() string {
	return fmt.Sprintf("there is no variant %q; %s", e.Name, nearest.Remedy(e.Name, e.Known))
}

// reader reads one definition, with those that it uses.
type reader struct {
	files    fs.FS
	options  Options
	path     trail
	faults   []finding.Finding
	told     map[told]bool
	unlisted int
	contents map[string]contentRead
	folders  map[string]fs.FS
	// partial says that other layers follow, as for kits: nothing has to be
	// there to be taken away.
	partial     bool
	spoiltNouns map[any]int

	// using is the chain of definitions that are being read, for circles.
	using []string
	used  map[string]bool
	// readShared reads a definition that is used. It is a field since the table
	// of the language cannot refer to itself.
	readShared func(l layer, into *fleet.Fleet)
	kits       map[string]*kit
	// variants are the layers of the chosen variant, by machine.
	variants     map[string]layer
	variantNames []string
	machines     []machineLayer
	// document is the definition itself. pieceSize is that of its pieces, or 0
	// to read it whole, which notPieces asks for.
	document  *document
	pieceSize int
	notPieces bool
	// faulty says that faults were found before texts are filled.
	faulty       bool
	machineNames map[string]bool
}

// Load reads the definition of the given name and completes it. A definition
// with faults gives [finding.Errors], sorted by place; any other error means
// that the file itself could not be read.
func Load(files fs.FS, name string, options Options) (*fleet.Fleet, error) {
	data, err := readDefinition(files, name)
	if err != nil {
		return nil, fmt.Errorf("cannot read the definition %q: %w", name, err)
	}
	return Parse(files, name, data, options)
}

var errFolder = errors.New("it is a folder")

func readDefinition(files fs.FS, name string) ([]byte, error) {
	file, err := files.Open(name)
	if err != nil {
		return nil, reason(err)
	}
	defer file.Close()
	size := int64(0)
	if info, err := file.Stat(); err == nil {
		if info.IsDir() {
			return nil, errFolder
		}
		size = min(info.Size(), MaxDefinition)
	}
	data := bytes.NewBuffer(make([]byte, 0, size+bytes.MinRead))
	if _, err := data.ReadFrom(io.LimitReader(file, MaxDefinition+1)); err != nil {
		return nil, reason(err)
	}
	return data.Bytes(), nil
}

// Parse is Load for a definition whose bytes are at hand; files is where the
// files that it names lie.
func Parse(files fs.FS, name string, data []byte, options Options) (*fleet.Fleet, error) {
	return parsePieces(files, name, data, options, pieceSize)
}

// parsePieces is Parse with another size of pieces than usual.
func parsePieces(files fs.FS, name string, data []byte, options Options, size int) (*fleet.Fleet, error) {
	r := &reader{
		files: files, options: options, told: map[told]bool{}, pieceSize: size,
		contents: map[string]contentRead{}, folders: map[string]fs.FS{}, spoiltNouns: map[any]int{},
		using: []string{name}, used: map[string]bool{}, kits: map[string]*kit{}, variants: map[string]layer{}, machineNames: map[string]bool{},
	}
	r.readShared = func(l layer, into *fleet.Fleet) { fleetTable.readShared(r, l, into) }
	result := &fleet.Fleet{}
	r.document = r.parse(name, data)
	r.pieceSize = 0 // what it uses is read whole
	if document := r.document; document != nil {
		top := layer{node: document.root, document: document}
		for _, name := range document.names {
			r.machineNames[name] = true
		}
		if r.plainNode(top) {
			top.record(result, fleet.Itself)
			fleetTable.read(r, top, result)
			r.makeMachines(result)
			fleetTable.validate(r, result)
		}
	}
	if r.notPieces {
		return parsePieces(files, name, data, options, 0)
	}
	if len(r.faults) == 0 {
		if options.Variant != "" && !contains(r.variantNames, options.Variant) {
			return nil, &UnknownVariantError{options.Variant, r.variantNames}
		}
		result.Complete()
	}
	r.faulty = len(r.faults) > 0
	r.fillAll(result)
	if len(r.faults) > 0 {
		return nil, finding.Errors(r.sorted(name))
	}
	return result, nil
}

func (r *reader) sorted(name string) []finding.Finding {
	faults := finding.Sort(r.faults)
	if r.unlisted > 0 {
		faults = append(faults, finding.Finding{
			Rule: string(ruleTooManyFaults), Severity: readingSeverity, Location: finding.Location{Place: fleet.Place{File: name}},
			Message: fmt.Sprintf("%d more faults are not listed", r.unlisted),
			Remedy:  "mend the first ones and look again; they often have one cause",
		})
	}
	return faults
}

func contains(list []string, word string) bool {
	for _, known := range list {
		if known == word {
			return true
		}
	}
	return false
}

// Faults returns the findings within an error of Load, or nil if it has none.
func Faults(err error) []finding.Finding {
	var faults finding.Errors
	if errors.As(err, &faults) {
		return faults
	}
	return nil
}
