package document

import (
	"bytes"
	"fmt"
	"iter"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
)

// Layer is one node of a definition. A machine is read layer by layer: first its
// kits, then its own node, then the variant's. Each is read into the same noun, so
// that maps merge by key, scalars replace and lists join, and every value keeps its
// place.
type Layer struct {
	Node *yaml.Node
	// Key is the map key that the node belongs to, or nil.
	Key *yaml.Node
	// Via names the kit or variant of the layer, and is empty otherwise.
	Via string

	document *Document
}

// Origins is what every noun keeps beside its values.
type Origins interface {
	Set(key string, source *fleet.Source, line, column int32)
	SetItem(key, item string, source *fleet.Source, line, column int32)
}

// AtKey returns the layer's key, if it has one: the place of the whole noun.
func (l Layer) AtKey() Layer {
	if l.Key != nil {
		l.Node = l.Key
	}
	return l
}

// At returns the layer of another node of the same document.
func (l Layer) At(node *yaml.Node) Layer { return Layer{Node: node, Via: l.Via, document: l.document} }

// From returns the layer as part of a kit or variant.
func (l Layer) From(via string) Layer {
	l.Via = via
	return l
}

// Name returns the layer's key.
func (l Layer) Name() string { return l.Key.Value }

// Folder returns the folder of the document, which paths in it are relative to.
func (l Layer) Folder() string { return l.document.folder }

// IsNone reports whether the layer removes what it inherits: the plain word none. In
// quotes, it is text like any other.
func (l Layer) IsNone() bool {
	return l.Node.Kind == yaml.ScalarNode && l.Node.Style == 0 && l.Node.Value == "none"
}

// IsNull reports whether the layer has no value.
func (l Layer) IsNull() bool { return isNull(l.Node) }

func isNull(node *yaml.Node) bool { return node.Kind == yaml.ScalarNode && node.Tag == "!!null" }

// Has reports whether the layer is a map with a key.
func (l Layer) Has(key string) bool {
	for i := 0; i+1 < len(l.Node.Content); i += 2 {
		if l.Node.Content[i].Value == key {
			return true
		}
	}
	return false
}

// manyKeys is how many keys and values a map has before it gets an index.
const manyKeys = 32

// Entries iterates over the entries of a map. It reports and skips repeated keys,
// keys that aren't text, and what isn't part of the language.
func (l Layer) Entries(faults *Faults) iter.Seq[Layer] {
	return func(yield func(Layer) bool) {
		content := l.Node.Content
		if l.IsTooLong(faults, len(content)/2) {
			return
		}
		var seen map[string]*yaml.Node
		if len(content) > manyKeys {
			seen = make(map[string]*yaml.Node, len(content)/2)
		}
		for i := 0; i+1 < len(content); i += 2 {
			key, value := content[i], content[i+1]
			entry := Layer{Node: value, Key: key, Via: l.Via, document: l.document}
			if !entry.AtKey().IsPlain(faults) || !entry.IsPlain(faults) {
				continue
			}
			if key.Kind != yaml.ScalarNode || key.Tag != "!!str" {
				faults.Add(WrongType, entry.AtKey(), "a key must be text, but this is "+Describe(key),
					"put it in quotes")
				continue
			}
			first := seen[key.Value]
			if seen == nil {
				first = earlier(content[:i], key.Value)
			} else if first == nil {
				seen[key.Value] = key
			}
			if first != nil {
				faults.AddRelated(RepeatedKey, entry.AtKey(), Quoted(key.Value)+" occurs twice in the same map",
					"keep one of the two", l.document.place(first), "first written here")
				continue
			}
			if !yield(entry) {
				return
			}
		}
	}
}

// IsTooLong reports whether a list or map has more entries than any has, and a fault
// if it does.
func (l Layer) IsTooLong(faults *Faults, entries int) bool {
	most := maxEntries
	switch {
	case faults.Key() == "machines":
		most = MaxMachines
	case len(faults.path) <= 1:
		most = maxNames
	}
	if entries <= most {
		return false
	}
	faults.Add(OutOfRange, l, fmt.Sprintf("%s has %d entries; the limit is %d", faults.Here(), entries, most),
		"remove what isn't needed, or split the definition")
	return true
}

// earlier returns the key of that name among alternating keys and values, or nil.
func earlier(content []*yaml.Node, name string) *yaml.Node {
	for i := 0; i < len(content); i += 2 {
		if content[i].Value == name && content[i].Kind == yaml.ScalarNode {
			return content[i]
		}
	}
	return nil
}

// Items iterates over the entries of a list. It reports and skips what isn't part of
// the language.
func (l Layer) Items(faults *Faults) iter.Seq2[int, Layer] {
	return func(yield func(int, Layer) bool) {
		if l.IsTooLong(faults, len(l.Node.Content)) {
			return
		}
		for i, node := range l.Node.Content {
			if item := l.At(node); item.IsPlain(faults) && !yield(i, item) {
				return
			}
		}
	}
}

const remedyAlias = "write the value out, or put what machines share into a kit"

// IsPlain reports a fault for what YAML has and the language doesn't: aliases,
// anchors and tags. Kits do what aliases are used for, and keep their places.
func (l Layer) IsPlain(faults *Faults) bool {
	switch {
	case l.Node.Kind == yaml.AliasNode:
		faults.Add(AliasOrTag, l, "the alias *"+l.Node.Value+" is not part of the language", remedyAlias)
	case l.Node.Anchor != "":
		faults.Add(AliasOrTag, l, "the anchor &"+l.Node.Anchor+" is not part of the language", remedyAlias)
	case l.Node.Style&yaml.TaggedStyle != 0:
		faults.Add(AliasOrTag, l, "the tag "+l.Node.Tag+" is not part of the language",
			"remove the tag; put text in quotes")
	default:
		return true
	}
	return false
}

// Place returns where the layer is.
func (l Layer) Place() fleet.Place { return l.document.place(l.Node) }

// Record records in a noun that the value of key is here.
func (l Layer) Record(of Origins, key string) {
	of.Set(key, l.document.source(l.Via), int32(l.Node.Line), int32(l.Node.Column))
}

// RecordItem records in a noun that one entry of the list or map behind key is here.
func (l Layer) RecordItem(of Origins, key, item string) {
	of.SetItem(key, item, l.document.source(l.Via), int32(l.Node.Line), int32(l.Node.Column))
}

// TextPlace returns the place of the first character of a text. It reports whether
// line N of the text is N-1 lines below it, at the same column, as in a literal
// block.
func (l Layer) TextPlace() (place fleet.Place, block bool) {
	place = l.Place()
	switch {
	case l.Node.Style&yaml.LiteralStyle != 0:
		place.Line++
		place.Column = int32(l.document.blockIndent(l.Node.Line, l.Node.Value) + 1)
		return place, true
	case l.Node.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0:
		place.Column++
	}
	return place, false
}

// blockIndent returns how many spaces precede the text of a literal block whose
// indicator is on the given line.
func (d *Document) blockIndent(line int, text string) int {
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
