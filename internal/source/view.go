package source

import (
	"go.yaml.in/yaml/v4"
)

// layer is one node that takes part in a value: the machine's own, a kit's or a
// variant's. via names the latter two and is empty for the former.
type layer struct {
	node     *yaml.Node
	key      *yaml.Node // the map key that node stands behind, or nil
	document *document
	via      string
}

// view is a value as its layers say it, the strongest last. Kits, machine and
// variant are never merged into a new tree: each reader looks through the
// layers, so that every value keeps its place.
type view []layer

func (v view) top() layer { return v[len(v)-1] }

// entry is one key of a map, with the layers that speak of it.
type entry struct {
	key  layer // node is the key itself, in the strongest layer
	view view
}

func (e entry) name() string { return e.key.node.Value }

// isNone reports whether a layer takes away what it inherits: the plain word
// none. In quotes it is text like any other.
func isNone(node *yaml.Node) bool {
	return node.Kind == yaml.ScalarNode && node.Style == 0 && node.Value == "none"
}

// isNull reports whether nothing was written.
func isNull(node *yaml.Node) bool {
	return node.Kind == yaml.ScalarNode && node.Tag == "!!null"
}

// entries joins the maps of a view by key, in the order in which keys first
// appear. Repeated keys and keys that are not text are told. An entry that the
// strongest layers took away with none is left out.
func (r *reader) entries(v view) []entry {
	if len(v) == 1 {
		single := r.single(v[0])
		kept := single[:0]
		for _, e := range single {
			if isNone(e.view[0].node) {
				r.nothingInherited(e)
				continue
			}
			kept = append(kept, e)
		}
		return kept
	}
	var joined []entry
	at := map[string]int{}
	for _, l := range v {
		for _, e := range r.single(l) {
			name := e.name()
			i, known := at[name]
			if !known {
				i = len(joined)
				at[name] = i
				joined = append(joined, entry{})
			}
			if isNone(e.view[0].node) {
				if joined[i].view == nil {
					r.nothingInherited(e)
				}
				joined[i] = entry{}
				continue
			}
			joined[i].key = e.key
			joined[i].view = append(joined[i].view, e.view...)
		}
	}
	kept := joined[:0]
	for _, e := range joined {
		if e.view != nil {
			kept = append(kept, e)
		}
	}
	return kept
}

func (r *reader) nothingInherited(e entry) {
	r.enter(e.name())
	r.fault(ruleNothingInherited, e.view[0], "there is no inherited "+quoted(e.name())+" to take away",
		"remove the line, or check the name; text that is the word none goes in quotes")
	r.leave()
}

// single lists the keys of one layer's map.
func (r *reader) single(l layer) []entry {
	content := l.node.Content
	entries := make([]entry, 0, len(content)/2)
	layers := make([]layer, 0, len(content)/2)
	var seen map[string]*yaml.Node
	if len(content) > 16 {
		seen = make(map[string]*yaml.Node, len(content)/2)
	}
	for i := 0; i+1 < len(content); i += 2 {
		key, value := content[i], content[i+1]
		keyLayer := layer{node: key, document: l.document, via: l.via}
		if !r.plainNode(keyLayer) || !r.plainNode(layer{node: value, document: l.document}) {
			continue
		}
		if key.Kind != yaml.ScalarNode || key.Tag != "!!str" {
			r.fault(ruleWrongType, keyLayer, "a key has to be text, but this is "+describe(key), "put it in quotes")
			continue
		}
		first := seen[key.Value]
		if seen == nil {
			first = earlier(entries, key.Value)
		} else if first == nil {
			seen[key.Value] = key
		}
		if first != nil {
			r.faultRelated(ruleRepeatedKey, keyLayer, quoted(key.Value)+" is written twice in the same map",
				"keep one of the two", l.document.place(first), "first written here")
			continue
		}
		layers = append(layers, layer{node: value, key: key, document: l.document, via: l.via})
		entries = append(entries, entry{key: keyLayer, view: layers[len(layers)-1 : len(layers) : len(layers)]})
	}
	return entries
}

func earlier(entries []entry, name string) *yaml.Node {
	for _, e := range entries {
		if e.name() == name {
			return e.key.node
		}
	}
	return nil
}

// plainNode refuses what YAML can say and the language doesn't: aliases,
// anchors and tags. Kits do what aliases are used for, and keep their places.
func (r *reader) plainNode(l layer) bool {
	switch {
	case l.node.Kind == yaml.AliasNode:
		r.fault(ruleAlias, l, "the alias *"+l.node.Value+" is not part of the language", remedyAlias)
	case l.node.Anchor != "":
		r.fault(ruleAlias, l, "the anchor &"+l.node.Anchor+" is not part of the language", remedyAlias)
	case l.node.Style&yaml.TaggedStyle != 0:
		r.fault(ruleAlias, l, "the tag "+l.node.Tag+" is not part of the language", "remove the tag; put text in quotes")
	default:
		return true
	}
	return false
}

const remedyAlias = "write the value out, or put what machines share into a kit"
