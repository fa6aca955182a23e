package source

import (
	"iter"

	"go.yaml.in/yaml/v4"
)

// layer is one node of a definition. A machine is read layer upon layer: kits
// first, then its own node, then the variant's. Each is read into the same noun,
// so that maps meet on their keys, scalars replace and lists join, and every
// value keeps its place. via names the kit or variant and is empty otherwise.
type layer struct {
	node     *yaml.Node
	key      *yaml.Node // the map key that node stands behind, or nil
	document *document
	via      string
}

// atKey is the layer's key, where it has one: the place of the whole noun.
func (l layer) atKey() layer {
	if l.key != nil {
		l.node = l.key
	}
	return l
}

func (l layer) name() string { return l.key.Value }

// isNone reports whether a layer takes away what it inherits: the plain word
// none. In quotes it is text like any other.
func isNone(node *yaml.Node) bool {
	return node.Kind == yaml.ScalarNode && node.Style == 0 && node.Value == "none"
}

// isNull reports whether nothing was written.
func isNull(node *yaml.Node) bool {
	return node.Kind == yaml.ScalarNode && node.Tag == "!!null"
}

// entries visits the keys of a layer's map. Repeated keys, keys that are not
// text and what the language does not have are told and left out.
func (r *reader) entries(l layer) iter.Seq[layer] {
	return func(visit func(layer) bool) {
		content := l.node.Content
		var seen map[string]*yaml.Node
		if len(content) > 32 {
			seen = make(map[string]*yaml.Node, len(content)/2)
		}
		for i := 0; i+1 < len(content); i += 2 {
			key, value := content[i], content[i+1]
			entry := layer{node: value, key: key, document: l.document, via: l.via}
			if !r.plainNode(entry.atKey()) || !r.plainNode(entry) {
				continue
			}
			if key.Kind != yaml.ScalarNode || key.Tag != "!!str" {
				r.fault(ruleWrongType, entry.atKey(), "a key has to be text, but this is "+describe(key), "put it in quotes")
				continue
			}
			first := seen[key.Value]
			if seen == nil {
				first = earlier(content[:i], key.Value)
			} else if first == nil {
				seen[key.Value] = key
			}
			if first != nil {
				r.faultRelated(ruleRepeatedKey, entry.atKey(), quoted(key.Value)+" is written twice in the same map",
					"keep one of the two", l.document.place(first), "first written here")
				continue
			}
			if !visit(entry) {
				return
			}
		}
	}
}

// earlier returns the key of that name among keys and values by turns.
func earlier(content []*yaml.Node, name string) *yaml.Node {
	for i := 0; i < len(content); i += 2 {
		if content[i].Value == name && content[i].Kind == yaml.ScalarNode {
			return content[i]
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
