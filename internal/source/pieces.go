package source

import (
	"bytes"
	"iter"
	"regexp"
	"runtime"

	"go.yaml.in/yaml/v4"
)

// pieceSize is how many bytes of machines are parsed at a time, and what a
// definition has to have at least to be read in pieces. A value takes the YAML
// package some 220 bytes: the nodes of a whole large definition would take more
// memory than the fleet that is made of them.
const pieceSize = 128 << 10

// piece is a run of whole machines of a definition that is read in pieces.
type piece struct {
	start, end int
	// line is the number of lines before the piece, section the line of the key
	// machines.
	line, section int
}

// machineKey is a line that can only start a machine: a plain name and a colon.
// Names that begin with a digit may be numbers, and so they are left out, as are
// the words that YAML takes for something else than text.
var (
	machineKey = regexp.MustCompile(`^( +)([a-z][a-z0-9-]*):(?: .*)?$`)
	noName     = regexp.MustCompile(`^(true|false|null|yes|no|on|off|y|n)$`)
)

// split cuts the section `machines` of a definition in block style into pieces
// and returns the definition without them, its lines still in place, with the
// machines' names. What isn't written the plain way gives no pieces and is read
// whole, and so is a definition of which a piece turns out not to be one.
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
			rest, deep := bytes.CutPrefix(text, indent)
			if !deep {
				return nil, nil, nil
			}
			if len(rest) == 0 || rest[0] == ' ' || rest[0] == '#' {
				break
			}
			key := machineKey.FindSubmatch(text)
			if key == nil || seen[string(key[2])] || noName.Match(key[2]) {
				return nil, nil, nil
			}
			seen[string(key[2])] = true
			names = append(names, string(key[2]))
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

// otherLineEnds reports whether the YAML package sees line ends where we do not.
func otherLineEnds(data []byte) bool {
	return bytes.Count(data, []byte("\r")) != bytes.Count(data, []byte("\r\n")) ||
		bytes.Contains(data, []byte("\u0085")) || bytes.Contains(data, []byte("\u2028")) || bytes.Contains(data, []byte("\u2029"))
}

// splitUp parses a definition without its machines, if it can be read in
// pieces. A text in quotes may go on over lines that look like a section: the
// head has to hold the emptied section where the text has it.
func (r *reader) splitUp(d *document) bool {
	if r.pieceSize == 0 {
		return false
	}
	head, pieces, names := split(d.data, r.pieceSize)
	if pieces == nil || separators(head) > maxSeparators {
		return false
	}
	var root yaml.Node
	if err := yaml.Load(head, &root, yaml.WithPlugin(limits())); err != nil || len(root.Content) != 1 {
		return false
	}
	if root.Content[0].Anchor != "" || root.Content[0].Style&yaml.TaggedStyle != 0 {
		return false // it is refused, but a fault within a piece would be told first
	}
	top := root.Content[0].Content
	for i := 0; i+1 < len(top); i += 2 {
		if top[i].Value == "machines" && top[i].Line == pieces[0].section && top[i+1].Style&yaml.FlowStyle != 0 {
			d.root, d.pieces, d.names = root.Content[0], pieces, names
			return true
		}
	}
	return false
}

// ownLayers visits each machine's own node, parsing those of a definition that
// is read in pieces as they are needed. It stops at a piece that cannot stand
// alone and notes that the definition has to be read whole.
func (r *reader) ownLayers() iter.Seq[machineLayer] {
	return func(visit func(machineLayer) bool) {
		for _, own := range r.machines {
			if !visit(own) {
				return
			}
		}
		if r.document == nil {
			return
		}
		for root := range r.document.parsed() {
			if root == nil {
				r.notPieces = true
				return
			}
			for e := range r.entries(layer{node: root, document: r.document}) {
				if remedy := label(e.name()); remedy != "" {
					r.enter(e.name())
					r.fault(ruleBadName, e.atKey(), quoted(e.name())+" cannot be the name of a machine", remedy)
					r.leave()
				}
				if !visit(machineLayer{e.name(), e}) {
					return
				}
			}
		}
	}
}

// parsed visits the maps of the pieces in order, or nil for one that cannot
// stand alone. The next ones are parsed while one is being read, no more of them
// than there are processors.
func (d *document) parsed() iter.Seq[*yaml.Node] {
	return func(visit func(*yaml.Node) bool) {
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
			if !visit(root) {
				return
			}
		}
	}
}

// parsePiece returns the map of machines in a piece, its places those of the
// whole file, or nil.
func (d *document) parsePiece(p piece) *yaml.Node {
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
