package document

import (
	"bytes"
	"context"
	"errors"
	"iter"
	"runtime"

	"go.yaml.in/yaml/v4"
)

// PieceSize is how many bytes of machines are parsed at a time. Smaller definitions
// are read whole. The YAML package takes some 220 bytes per value, so the nodes of a
// whole large definition would take more memory than the fleet made from them.
const PieceSize = 128 << 10

// piece is a run of whole machines.
type piece struct {
	start, end int
	// line is the number of lines before the piece, and section the line of the key
	// machines.
	line, section int
}

// machineName returns the name on a line that can only start a machine: a plain name
// and a colon. It leaves out names that start with a digit, which may be numbers, and
// words that YAML doesn't take for text.
func machineName(text []byte) (name string, ok bool) {
	before, after, found := bytes.Cut(bytes.TrimLeft(text, " "), []byte(":"))
	if !found || len(after) > 0 && after[0] != ' ' || len(before) == 0 || before[0] < 'a' || before[0] > 'z' {
		return "", false
	}
	for _, c := range before {
		if (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '-' {
			return "", false
		}
	}
	switch name := string(before); name {
	case "true", "false", "null", "yes", "no", "on", "off", "y", "n":
		return "", false
	default:
		return name, true
	}
}

// split cuts the section `machines` of a definition in block style into pieces. It
// returns the definition without them, its lines still in place, and the machines'
// names. A definition that is written in another way gives no pieces.
func split(data []byte, size int) (head []byte, pieces []piece, names []string) {
	if len(data) < size || otherLineEnds(data) {
		return nil, nil, nil
	}
	var indent []byte
	seen := map[string]bool{}
	section, sectionLine, end, number := -1, 0, len(data), 0
	for at := 0; at < len(data); number++ {
		line, _, _ := bytes.Cut(data[at:], []byte("\n"))
		next := min(at+len(line)+1, len(data))
		text := bytes.TrimRight(line, "\r")
		switch {
		case section < 0:
			if bytes.Equal(text, []byte("machines:")) {
				section, sectionLine = next, number+1
			}
		case len(text) == 0 || text[0] == '#':
		case text[0] != ' ':
			end = at
		default:
			if indent == nil {
				indent = text[:len(text)-len(bytes.TrimLeft(text, " "))]
			}
			rest, ok := bytes.CutPrefix(text, indent)
			if !ok {
				return nil, nil, nil
			}
			if len(rest) == 0 || rest[0] == ' ' || rest[0] == '#' {
				break
			}
			name, ok := machineName(text)
			if !ok || seen[name] {
				return nil, nil, nil
			}
			seen[name] = true
			names = append(names, name)
			if n := len(pieces); n == 0 || at-pieces[n-1].start >= size {
				pieces = append(pieces, piece{start: at, line: number, section: sectionLine})
			}
		}
		if end < len(data) {
			break
		}
		at = next
	}
	if len(pieces) == 0 {
		return nil, nil, nil
	}
	for i := range pieces[1:] {
		pieces[i].end = pieces[i+1].start
	}
	pieces[len(pieces)-1].end = end
	head = append(head, bytes.TrimRight(data[:section], "\r\n")...)
	head = append(head, " {}"...)
	head = append(head, bytes.Repeat([]byte("\n"), 1+bytes.Count(data[section:end], []byte("\n")))...)
	return append(head, data[end:]...), pieces, names
}

// otherLineEnds reports whether the YAML package sees line ends that split doesn't.
func otherLineEnds(data []byte) bool {
	return bytes.Count(data, []byte("\r")) != bytes.Count(data, []byte("\r\n")) ||
		bytes.Contains(data, []byte("\u0085")) || bytes.Contains(data, []byte("\u2028")) ||
		bytes.Contains(data, []byte("\u2029"))
}

// ParseInPieces parses a definition without its machines, which [Document.Machines]
// parses in turn. It returns nil, without reporting anything, if the definition is
// smaller than a piece or can't be read that way; [Parse] reads every definition.
// size is usually [PieceSize].
func ParseInPieces(ctx context.Context, name string, data []byte, size int) *Document {
	var faults Faults
	d := newDocument(&faults, name, data)
	if d == nil {
		return nil
	}
	head, pieces, names := split(data, size)
	if pieces == nil || separators(head) > maxSeparators {
		return nil
	}
	var root yaml.Node
	if err := load(ctx, head, &root); err != nil || len(root.Content) != 1 {
		return nil
	}
	if root.Content[0].Anchor != "" || root.Content[0].Style&yaml.TaggedStyle != 0 {
		return nil // it is refused, but a fault within a piece would come first
	}
	// A text in quotes may go on over lines that look like a section, so the head has
	// to have the emptied section where the text has it.
	top := root.Content[0].Content
	for i := 0; i+1 < len(top); i += 2 {
		if top[i].Value == "machines" && top[i].Line == pieces[0].section && top[i+1].Style&yaml.FlowStyle != 0 {
			d.root, d.pieces, d.names = root.Content[0], pieces, names
			return d
		}
	}
	return nil
}

// MachineNames returns the names of the machines that are parsed in turn.
func (d *Document) MachineNames() []string { return d.names }

// ErrNotPieces reports that a definition can only be read as a whole.
var ErrNotPieces = errors.New("a piece of the definition can't be read alone")

// Machines iterates over the nodes of the machines that are parsed in turn. If a piece
// turns out not to consist of whole machines, it ends with [ErrNotPieces].
func (d *Document) Machines(faults *Faults) iter.Seq2[Layer, error] {
	return func(yield func(Layer, error) bool) {
		for root := range d.parsed() {
			if root == nil {
				yield(Layer{}, ErrNotPieces)
				return
			}
			for entry := range (Layer{Node: root, document: d}).Entries(faults) {
				if !yield(entry, nil) {
					return
				}
			}
		}
	}
}

// parsed iterates over the maps of the pieces in order, or nil for a piece that can't
// be read alone. While one is being read, the next ones are parsed, as many as there
// are processors.
func (d *Document) parsed() iter.Seq[*yaml.Node] {
	return func(yield func(*yaml.Node) bool) {
		ahead := runtime.GOMAXPROCS(0)
		slots := make([]chan *yaml.Node, len(d.pieces))
		start := func(i int) {
			if i < len(d.pieces) {
				slots[i] = make(chan *yaml.Node, 1)
				go func(slot chan<- *yaml.Node) { slot <- d.parsePiece(d.pieces[i]) }(slots[i])
			}
		}
		for i := range ahead {
			start(i)
		}
		for i := range d.pieces {
			root := <-slots[i]
			slots[i] = nil
			start(i + ahead)
			if !yield(root) {
				return
			}
		}
	}
}

// parsePiece returns the map of machines in a piece, with the places of the whole
// file, or nil.
func (d *Document) parsePiece(p piece) *yaml.Node {
	if separators(d.data[p.start:p.end]) > maxSeparators {
		return nil
	}
	var root yaml.Node
	if err := yaml.Load(d.data[p.start:p.end], &root, yaml.WithPlugin(limits())); err != nil {
		return nil
	}
	if len(root.Content) != 1 || root.Content[0].Kind != yaml.MappingNode {
		return nil
	}
	move(root.Content[0], p.line)
	return root.Content[0]
}

func move(node *yaml.Node, lines int) {
	node.Line += lines
	for _, part := range node.Content {
		move(part, lines)
	}
}
