// Package load reads definition files into a fleet. It finds out which layers a
// machine consists of, and puts it together from them:
//
//	use.go       other definitions that a definition uses
//	machines.go  kits, the machine's own node, and what a variant changes
//	copies.go    machines with several copies
//	fill.go      texts that are run through text/template
//
// Package document parses the files, and package language gives the nodes meaning.
package load

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
	"stavren.example/stavren/internal/language"
	"stavren.example/stavren/internal/nearest"
)

// Options changes how a definition is read. The zero value suits definitions that
// nobody trusts.
type Options struct {
	// AllowOutside lets definitions include files outside their folder.
	AllowOutside bool
	// Variant names the variant to apply, or is empty for none.
	Variant string
}

// UnknownVariantError reports that a definition has no variant of that name.
type UnknownVariantError struct {
	Name  string
	Known []string
}

// Error names the variant, and one that was probably meant.
func (e *UnknownVariantError) Error() string {
	return fmt.Sprintf("unknown variant %q; %s", e.Name, nearest.Remedy(e.Name, e.Known))
}

// Load reads the definition of the given name and completes it. A definition with
// faults gives [finding.Errors], sorted by place; any other error means that the file
// itself could not be read, or that the context ended.
func Load(ctx context.Context, files fs.FS, name string, options Options) (*fleet.Fleet, error) {
	data, err := document.NewFiles(files, options.AllowOutside).Definition(name)
	if err != nil {
		return nil, fmt.Errorf("cannot read the definition %q: %w", name, err)
	}
	return Parse(ctx, files, name, data, options)
}

// Parse is like [Load], for a definition that has already been read. files has the
// files that it names.
func Parse(ctx context.Context, files fs.FS, name string, data []byte, options Options) (*fleet.Fleet, error) {
	return parsePieces(ctx, files, name, data, options, document.PieceSize)
}

// parsePieces reads a definition in pieces of a size if it can.
func parsePieces(ctx context.Context, files fs.FS, name string, data []byte, options Options,
	size int) (*fleet.Fleet, error) {
	if d := document.ParseInPieces(ctx, name, data, size); d != nil {
		f, err := newLoader(ctx, files, name, options).load(d)
		if !errors.Is(err, document.ErrNotPieces) {
			return f, err
		}
	}
	return parseWhole(ctx, files, name, data, options)
}

func parseWhole(ctx context.Context, files fs.FS, name string, data []byte, options Options) (*fleet.Fleet, error) {
	l := newLoader(ctx, files, name, options)
	d := document.Parse(ctx, l.faults, name, data)
	if d == nil {
		return nil, l.err()
	}
	return l.load(d)
}

// loader reads one definition and those that it uses.
type loader struct {
	// ctx ends the reading of a large definition.
	ctx     context.Context
	name    string
	options Options
	files   *document.Files
	faults  *document.Faults
	reader  *language.Reader
	// used are the definitions that have been read.
	used map[string]bool
	kits map[string]*kit
}

func newLoader(ctx context.Context, files fs.FS, name string, options Options) *loader {
	opener, faults := document.NewFiles(files, options.AllowOutside), &document.Faults{}
	return &loader{
		ctx: ctx, name: name, options: options, files: opener, faults: faults, reader: language.NewReader(faults, opener),
		used: map[string]bool{}, kits: map[string]*kit{},
	}
}

func (l *loader) load(d *document.Document) (*fleet.Fleet, error) {
	var definition language.Definition
	top := d.Top()
	if !top.IsPlain(l.faults) {
		return nil, l.err()
	}
	l.use(top, []string{l.name}, &definition)
	l.reader.ReadDefinition(top, &definition)
	l.readKits(definition.Kits)
	variant, names := l.readVariants(definition.Variants, machineNames(&definition, d))
	if err := l.makeMachines(d, &definition, variant); err != nil {
		return nil, err
	}
	l.reader.FinishDefinition(&definition)
	result := &definition.Fleet
	result.Variant = l.options.Variant
	if !l.faults.Any() {
		if l.options.Variant != "" && !names[l.options.Variant] {
			return nil, &UnknownVariantError{l.options.Variant, sorted(names)}
		}
		result.Complete()
	}
	fill(l.ctx, result, l.faults)
	if err := l.err(); err != nil {
		return nil, err
	}
	return result, nil
}

// err returns why there is no fleet: the context ended, or the definition has faults.
func (l *loader) err() error {
	if err := l.ctx.Err(); err != nil {
		return fmt.Errorf("reading the definition %q: %w", l.name, err)
	}
	return l.faults.Err(l.name)
}

// Faults returns the findings in an error of [Load], or nil if it has none.
func Faults(err error) []finding.Finding {
	var faults finding.Errors
	if errors.As(err, &faults) {
		return faults
	}
	return nil
}
