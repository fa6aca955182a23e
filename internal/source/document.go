package source

import (
	"bytes"
	"errors"
	"fmt"
	"path"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
	"go.yaml.in/yaml/v4/plugin/loaderlimits"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// Bounds of reading; docs/language.md lists them.
const (
	// MaxDefinition is the size of a definition file in bytes.
	MaxDefinition = 16 << 20
	// MaxContent is the size of a file that a definition takes in, in bytes.
	MaxContent = 4 << 20
	// maxDepth is how deep maps and lists nest. The language needs eight.
	maxDepth = 32
	// maxSeparators bounds the values that are parsed at once: commas, colons,
	// brackets and lines, of which each value needs one at least. The YAML package
	// takes some 220 bytes for a value, so that a file of nothing but commas would
	// take a hundred times its size. Machines in block style come in pieces and
	// do not count together.
	maxSeparators = 1_000_000
	// maxFaults is how many faults one run tells before it stops reading.
	maxFaults = 100
)

// document is one definition file, parsed to nodes.
type document struct {
	name   string
	folder string
	data   []byte
	root   *yaml.Node
	// pieces are the machines of a large definition, which are parsed in turn.
	pieces []piece
	names  []string

	lineStarts []int
	// sources are what the origins of its values share, by kit or variant; last
	// is the one that was asked for last.
	sources map[string]*fleet.Source
	last    *fleet.Source
}

// parse turns the bytes of a definition into nodes. What is not YAML is told
// with its place; the YAML package knows the line and column of most faults.
func (r *reader) parse(name string, data []byte) *document {
	d := &document{name: name, folder: path.Dir(name), data: data}
	if len(data) > MaxDefinition {
		r.faultAt(ruleTooLarge, fleet.Place{File: name},
			fmt.Sprintf("the file has %v, more than the %v that are read", fleet.Bytes(len(data)), fleet.Bytes(MaxDefinition)),
			"split it into several definitions")
		return nil
	}
	if line, column, bad := firstBadByte(data); bad != "" {
		r.faultAt(ruleNotYAML, fleet.Place{File: name, Line: line, Column: column}, bad,
			"save the file as UTF-8 text; put binary content into a file of its own and name it with file:")
		return nil
	}
	if r.splitUp(d) {
		return d
	}
	if separators(data) > maxSeparators {
		r.faultAt(ruleTooLarge, fleet.Place{File: name},
			fmt.Sprintf("the file holds more than %d values in one piece", maxSeparators),
			"split it into several definitions, or write its machines in block style, each name on a line of its own")
		return nil
	}
	var root yaml.Node
	if err := yaml.Load(data, &root, yaml.WithPlugin(limits())); err != nil {
		r.yamlFault(d, err)
		return nil
	}
	if len(root.Content) != 1 || isNull(root.Content[0]) && root.Content[0].Value == "" {
		r.faultAt(ruleEmptyFile, fleet.Place{File: name}, "the file says nothing", remedyEmptyFile)
		return nil
	}
	d.root = root.Content[0]
	return d
}

// limits are made anew for each document, since they count.
func limits() *loaderlimits.Plugin {
	return loaderlimits.New(loaderlimits.DepthValue(maxDepth), loaderlimits.AliasNone())
}

const remedyEmptyFile = "start it with the two lines `stavren: 1` and `fleet: NAME`, then add images and machines"

func separators(data []byte) int {
	count := 0
	for _, separator := range []byte(",:[{\n") {
		count += bytes.Count(data, []byte{separator})
	}
	return count
}

// firstBadByte finds what no YAML reader accepts, since the YAML package
// doesn't say where it is: bytes that are not UTF-8, and control characters.
func firstBadByte(data []byte) (line, column int32, bad string) {
	line, column = 1, 1
	for i := 0; i < len(data); {
		c := data[i]
		switch {
		case c == '\n':
			line, column = line+1, 1
			i++
			continue
		case c < utf8.RuneSelf:
			if (c < ' ' && c != '\t' && c != '\r') || c == 0x7f {
				return line, column, fmt.Sprintf("control character U+%04X is not allowed in a definition", c)
			}
			i++
		default:
			char, size := utf8.DecodeRune(data[i:])
			if char == utf8.RuneError && size == 1 {
				return line, column, fmt.Sprintf("byte 0x%02X is not UTF-8", c)
			}
			i += size
		}
		column++
	}
	return 0, 0, ""
}

// yamlFault reports what the YAML package refused, in our words where its own
// would not help a person to mend the file.
func (r *reader) yamlFault(d *document, err error) {
	if strings.Contains(err.Error(), "no documents in stream") {
		r.faultAt(ruleEmptyFile, fleet.Place{File: d.name}, "the file says nothing", remedyEmptyFile)
		return
	}
	if strings.Contains(err.Error(), "found multiple") {
		place := fleet.Place{File: d.name}
		if at := secondDocument(d.data); at > 0 {
			place.Line, place.Column = at, 1
		}
		r.faultAt(ruleNotYAML, place, "the file holds more than one YAML document",
			"remove the line `---`, or move what follows it into a file of its own")
		return
	}
	place := fleet.Place{File: d.name}
	message := err.Error()
	var load *yaml.LoadError
	if errors.As(err, &load) {
		message = load.Message
		if load.ContextMsg != "" {
			message = load.ContextMsg + ": " + message
		}
		place.Line, place.Column = int32(load.Mark.Line), int32(load.Mark.Column)
	}
	remedy := "mend the YAML there or just above; maps are `key: value`, lists start with `- `"
	line := d.line(int(place.Line))
	switch {
	case strings.HasPrefix(strings.TrimLeft(line, " "), "\t") || strings.Contains(message, "cannot start any token") && strings.Contains(line, "\t"):
		message, remedy = "a tab stands where YAML allows only spaces", "indent with spaces"
		place.Column = int32(strings.Index(line, "\t") + 1)
	case strings.Contains(message, "max depth"):
		message, remedy = fmt.Sprintf("maps and lists are nested more than %d deep", maxDepth), "no key of the language needs that; remove the nesting"
	case strings.Contains(message, "unknown anchor"):
		message, remedy = "an alias names an anchor that does not exist", remedyAlias
	}
	r.faultAt(ruleNotYAML, place, message, remedy)
}

// secondDocument returns the line of the marker that starts a second document.
func secondDocument(data []byte) int32 {
	content := false
	for i, line := range strings.Split(string(data), "\n") {
		switch text := strings.TrimRight(line, "\r"); {
		case strings.HasPrefix(text, "---"):
			if content {
				return int32(i + 1)
			}
			content = strings.TrimSpace(text[3:]) != ""
		case strings.TrimSpace(text) != "" && text[0] != '#' && text[0] != '%':
			content = true
		}
	}
	return 0
}

// line returns line number n, from 1, without its line end.
func (d *document) line(n int) string { return strings.TrimRight(string(d.lineBytes(n)), "\r") }

func (d *document) lineBytes(n int) []byte {
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

// blockIndent returns how many spaces stand before the text of a literal block
// whose indicator is on the given line.
func (d *document) blockIndent(line int, text string) int {
	for i := 1; text != ""; i++ {
		textLine, rest, _ := strings.Cut(text, "\n")
		if strings.TrimSpace(textLine) != "" {
			return leadingSpaces(d.lineBytes(line+i)) - leadingSpaces([]byte(textLine))
		}
		text = rest
	}
	return 0
}

func leadingSpaces(text []byte) int { return len(text) - len(bytes.TrimLeft(text, " ")) }

// record notes in a noun that the value of key stands here.
func (l layer) record(of origins, key string) {
	of.Set(key, l.source(), int32(l.node.Line), int32(l.node.Column))
}

// recordItem notes that one entry of the list behind key stands here.
func (l layer) recordItem(of origins, key, item string) {
	of.SetItem(key, item, l.source(), int32(l.node.Line), int32(l.node.Column))
}

// source is shared by all values that came from one file in one way.
func (l layer) source() *fleet.Source {
	d := l.document
	if d.last == nil || d.last.Via != l.via {
		if d.sources == nil {
			d.sources = map[string]*fleet.Source{}
		}
		if d.last = d.sources[l.via]; d.last == nil {
			d.last = &fleet.Source{File: d.name, Via: l.via}
			d.sources[l.via] = d.last
		}
	}
	return d.last
}

func (l layer) place() fleet.Place { return l.document.place(l.node) }

func (d *document) place(node *yaml.Node) fleet.Place {
	return fleet.Place{File: d.name, Line: int32(node.Line), Column: int32(node.Column)}
}

// severity of every reading fault: a definition that cannot be read is an error.
const readingSeverity = finding.Error
