// Package document turns the bytes of a definition into nodes with places, and
// collects what is wrong with its form. The YAML package does the parsing; what its
// messages don't tell people, such as a tab or a second document, is found here.
//
// Package language gives nodes their meaning, and package load puts machines
// together.
package document

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"go.yaml.in/yaml/v4"
	"go.yaml.in/yaml/v4/plugin/loaderlimits"

	"stavren.example/stavren/fleet"
)

// Bounds of reading; docs/language.md lists them.
const (
	// MaxDefinition is the size of a definition file in bytes.
	MaxDefinition = 16 << 20
	// maxDepth is how deep maps and lists nest. The language needs eight levels.
	maxDepth = 32
	// maxSeparators bounds the values that are parsed at once: commas, colons,
	// brackets, quotes and lines, of which each value needs at least one. The YAML
	// package takes some 220 bytes per value, so a file of nothing but commas would
	// take a hundred times its size. Machines in block style are parsed in pieces and
	// don't count together.
	maxSeparators = 1_000_000
	// MaxMachines is the most machines of a definition, with copies. A section of a
	// definition has fewer names, and any other list or map fewer entries: what one
	// machine has is compared with all else that it has.
	MaxMachines = 20_000
	maxNames    = 10_000
	maxEntries  = 1_000
)

// Document is a definition file, parsed to nodes.
type Document struct {
	name   string
	folder string
	data   []byte
	root   *yaml.Node
	// pieces are the machines of a large definition, which are parsed in turn, and
	// names are their names.
	pieces []piece
	names  []string

	lineStarts []int
	// sources holds what the origins of values share, by kit or variant; last is the
	// one that was used last.
	sources map[string]*fleet.Source
	last    *fleet.Source
}

// Parse parses a definition. It reports what isn't YAML, with its place, and then
// returns nil. It also returns nil if the context ends.
func Parse(ctx context.Context, faults *Faults, name string, data []byte) *Document {
	d := newDocument(faults, name, data)
	if d == nil {
		return nil
	}
	if separators(data) > maxSeparators {
		faults.AddAt(TooLarge, fleet.Place{File: name},
			fmt.Sprintf("the file has more than %d values in one piece", maxSeparators),
			"split it into several definitions, or write its machines in block style, each name on a line of its own")
		return nil
	}
	var root yaml.Node
	if err := load(ctx, data, &root); err != nil {
		if ctx.Err() == nil {
			d.reportYAML(faults, err)
		}
		return nil
	}
	if len(root.Content) != 1 || isNull(root.Content[0]) && root.Content[0].Value == "" {
		faults.AddAt(EmptyFile, fleet.Place{File: name}, messageEmptyFile, remedyEmptyFile)
		return nil
	}
	d.root = root.Content[0]
	return d
}

const (
	messageEmptyFile = "the file is empty"
	remedyEmptyFile  = "start it with the two lines `stavren: 1` and `fleet: NAME`, then add images and machines"
)

// newDocument checks what no YAML reader accepts. It returns nil after a fault.
func newDocument(faults *Faults, name string, data []byte) *Document {
	if len(data) > MaxDefinition {
		faults.AddAt(TooLarge, fleet.Place{File: name},
			fmt.Sprintf("the file has %v; the limit is %v", fleet.Bytes(len(data)), fleet.Bytes(MaxDefinition)),
			"split it into several definitions")
		return nil
	}
	if line, column, fault := firstBadByte(data); fault != "" {
		faults.AddAt(NotYAML, fleet.Place{File: name, Line: line, Column: column}, fault,
			"save the file as UTF-8 text; put binary content into a file of its own and name it with file:")
		return nil
	}
	return &Document{name: name, folder: path.Dir(name), data: data}
}

// Top returns the layer of the whole document.
func (d *Document) Top() Layer { return Layer{Node: d.root, document: d} }

// Size returns how many bytes the definition has.
func (d *Document) Size() int { return len(d.data) }

// load parses YAML into a node, unless the context ends first.
func load(ctx context.Context, data []byte, into *yaml.Node) error {
	source := &source{ctx, bytes.NewReader(data)}
	loader, err := yaml.NewLoader(source, yaml.WithPlugin(limits()))
	if err != nil {
		return err
	}
	if err := loader.Load(into); err != nil {
		if errors.Is(err, io.EOF) {
			return errNoDocument
		}
		return err
	}
	var second yaml.Node
	switch err := loader.Load(&second); {
	case errors.Is(err, io.EOF):
		return nil
	case err != nil:
		return err
	}
	return errDocuments
}

var (
	errNoDocument = errors.New("no documents in stream")
	errDocuments  = errors.New("found multiple documents")
)

// source ends with its context.
type source struct {
	ctx  context.Context
	data *bytes.Reader
}

func (s *source) Read(into []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	return s.data.Read(into)
}

// limits are made for each document, since they count.
func limits() *loaderlimits.Plugin {
	return loaderlimits.New(loaderlimits.DepthValue(maxDepth), loaderlimits.AliasNone())
}

func separators(data []byte) int {
	count := 0
	for _, separator := range []byte(",:[{\"'\n") {
		count += bytes.Count(data, []byte{separator})
	}
	return count
}

// reportYAML reports what the YAML package refused. It rewords messages that would
// not help a person to fix the file.
func (d *Document) reportYAML(faults *Faults, err error) {
	place := fleet.Place{File: d.name}
	switch {
	case errors.Is(err, errNoDocument):
		faults.AddAt(EmptyFile, place, messageEmptyFile, remedyEmptyFile)
		return
	case errors.Is(err, errDocuments):
		if at := secondDocument(d.data); at > 0 {
			place.Line, place.Column = at, 1
		}
		faults.AddAt(NotYAML, place, "the file has more than one YAML document",
			"remove the line `---`, or move what follows it into a file of its own")
		return
	}
	message := err.Error()
	var load *yaml.LoadError
	if errors.As(err, &load) {
		message = load.Message
		if load.ContextMsg != "" {
			message = load.ContextMsg + ": " + message
		}
		place.Line, place.Column = int32(load.Mark.Line), int32(load.Mark.Column)
	}
	remedy := "fix the YAML there or just above; maps are `key: value`, lists start with `- `"
	line := d.line(int(place.Line))
	switch {
	case strings.HasPrefix(strings.TrimLeft(line, " "), "\t"),
		strings.Contains(message, "cannot start any token") && strings.Contains(line, "\t"):
		message, remedy = "YAML allows only spaces here, but this is a tab", "indent with spaces"
		place.Column = int32(strings.Index(line, "\t") + 1)
	case strings.Contains(message, "max depth"):
		message = fmt.Sprintf("maps and lists are nested more than %d levels deep", maxDepth)
		remedy = "no key of the language needs that; remove the nesting"
	case strings.Contains(message, "unknown anchor"):
		message, remedy = "an alias names an anchor that does not exist", remedyAlias
	}
	faults.AddAt(NotYAML, place, message, remedy)
}

// line returns line number n, counted from 1, without its line end.
func (d *Document) line(n int) string { return strings.TrimRight(string(d.lineBytes(n)), "\r") }

func (d *Document) lineBytes(n int) []byte {
	if d.lineStarts == nil {
		d.lineStarts = append(make([]int, 0, bytes.Count(d.data, []byte("\n"))+1), 0)
		for i, c := range d.data {
			if c == '\n' {
				d.lineStarts = append(d.lineStarts, i+1)
			}
		}
	}
	if n < 1 || n > len(d.lineStarts) {
		return nil
	}
	end := len(d.data)
	if n < len(d.lineStarts) {
		end = d.lineStarts[n] - 1
	}
	return d.data[d.lineStarts[n-1]:end]
}

// source returns what all values of the document share that came in one way.
func (d *Document) source(via string) *fleet.Source {
	if d.last != nil && d.last.Via == via {
		return d.last
	}
	if d.sources == nil {
		d.sources = map[string]*fleet.Source{}
	}
	if d.last = d.sources[via]; d.last == nil {
		d.last = &fleet.Source{File: d.name, Via: via}
		d.sources[via] = d.last
	}
	return d.last
}

func (d *Document) place(node *yaml.Node) fleet.Place {
	return fleet.Place{File: d.name, Line: int32(node.Line), Column: int32(node.Column)}
}
