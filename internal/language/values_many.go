package language

import (
	"net/netip"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
)

// texts visits the texts of a list.
func (r *Reader) texts(l document.Layer, what, example string, visit func(document.Layer)) bool {
	switch {
	case l.IsNull():
		r.emptyValue(l)
		return false
	case l.Node.Kind != yaml.SequenceNode:
		remedy := "write " + example
		if l.Node.Kind == yaml.ScalarNode && document.IsShort(l.Node.Value) {
			remedy = "write [" + l.Node.Value + "]"
		}
		return r.wrongType(l, "a list of "+what, remedy)
	}
	for _, item := range l.Items(r.Faults) {
		if item.Node.Kind != yaml.ScalarNode || item.Node.Tag != "!!str" {
			r.Add(document.WrongType, item,
				r.Here()+" is a list of "+what+", but this entry is "+document.Describe(item.Node),
				"put it in quotes, or remove it")
			continue
		}
		if r.isShort(item, maxText) {
			visit(item)
		}
	}
	return true
}

// words is a list of texts that a rule accepts. Lists of several layers join without
// duplicates.
func words[T any](what string, rule nameRule, at func(*T) *[]string) value[T] {
	return value[T]{
		name: "list of " + what, clear: clear(at), schema: listSchema,
		print: func(of *T) string { return strings.Join(*at(of), ", ") },
		read: func(r *Reader, l document.Layer, into *T) bool {
			return r.texts(l, what, "a list such as [first, second]", func(item document.Layer) {
				text := item.Node.Value
				if remedy := rule(text); remedy != "" {
					r.Add(document.BadValue, item, quoted(text)+" is not valid in "+r.Here(), remedy)
					return
				}
				if !slices.Contains(*at(into), text) {
					*at(into) = append(*at(into), text)
					item.RecordItem(any(into).(origins), r.Key(), text)
				}
			})
		},
	}
}

// addresses is a list of IP addresses.
func addresses[T any](at func(*T) *[]netip.Addr) value[T] {
	const example = "10.44.7.1"
	return value[T]{
		name: "list of IP addresses", clear: clear(at), schema: listSchema,
		print: func(of *T) string { return joined(*at(of)) },
		read: func(r *Reader, l document.Layer, into *T) bool {
			return r.texts(l, "IP addresses", "["+example+"]", func(item document.Layer) {
				if addr, ok := r.address(item, example); ok {
					*at(into) = append(*at(into), addr)
				}
			})
		},
	}
}

// prefixes is a list of addresses with their prefix lengths. One alone needs no list.
func prefixes[T any](at func(*T) *[]netip.Prefix) value[T] {
	const example = "10.44.8.20/24"
	return value[T]{
		name: "list of addresses with prefix length", clear: clear(at), schema: oneOrMoreSchema,
		print: func(of *T) string { return joined(*at(of)) },
		read: func(r *Reader, l document.Layer, into *T) bool {
			return r.prefixes(l, example, func(item document.Layer) {
				prefix, err := netip.ParsePrefix(item.Node.Value)
				if err != nil {
					r.bad(item, "an address with a prefix length", "write it like "+example)
					return
				}
				*at(into) = append(*at(into), prefix)
			})
		},
	}
}

func (r *Reader) prefixes(l document.Layer, example string, visit func(document.Layer)) bool {
	if l.Node.Kind == yaml.ScalarNode && l.Node.Tag == "!!str" && r.isShort(l, maxText) {
		visit(l)
		return true
	}
	return r.texts(l, "addresses with prefix length", "["+example+"]", visit)
}

// pairs is a map from names to texts. Maps of several layers merge by name.
func pairs[T any](what string, rule nameRule, at func(*T) *[]fleet.Pair) value[T] {
	return value[T]{
		name: "map of texts", clear: clear(at), schema: func() schema { return mapSchema(textSchema()) },
		print: func(of *T) string {
			var texts []string
			for _, pair := range *at(of) {
				texts = append(texts, pair.Key+": "+pair.Value)
			}
			return strings.Join(texts, ", ")
		},
		read: func(r *Reader, l document.Layer, into *T) bool {
			if !r.wantMap(l, "a map of "+what) {
				return false
			}
			for e := range l.Entries(r.Faults) {
				r.Enter(e.Name())
				r.pair(e, rule, what, at(into), any(into).(origins))
				r.Leave()
			}
			return true
		},
	}
}

func (r *Reader) pair(e document.Layer, rule nameRule, what string, list *[]fleet.Pair, of origins) {
	at := slices.IndexFunc(*list, func(pair fleet.Pair) bool { return pair.Key == e.Name() })
	if e.IsNone() {
		if at >= 0 {
			*list = slices.Delete(slices.Clone(*list), at, at+1)
		} else if !r.partial {
			r.nothingInherited(e)
		}
		return
	}
	if remedy := rule(e.Name()); remedy != "" {
		r.Add(document.BadName, e.AtKey(), quoted(e.Name())+" is not a valid name among the "+what, remedy)
	}
	if !r.isText(e) {
		return
	}
	if fault := oneLine(e.Node.Value); fault != "" {
		r.Add(document.BadValue, e, r.Here()+" "+fault, "write it as one line")
		return
	}
	e.AtKey().RecordItem(of, r.Parent(), e.Name())
	if at >= 0 {
		(*list)[at].Value = e.Node.Value
		return
	}
	*list = append(*list, fleet.Pair{Key: e.Name(), Value: e.Node.Value})
}
