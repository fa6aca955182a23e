package language

import (
	"slices"
	"strconv"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
)

// object is a map of known keys that is part of the noun.
func object[T, U any, P noun[U]](t *table[U, P], at func(*T) P) value[T] {
	return value[T]{
		name: "map",
		read: func(r *Reader, l document.Layer, into *T) bool {
			if l.IsNull() {
				r.emptyValue(l)
				return false
			}
			part := at(into)
			t.reserve(part, l)
			l.AtKey().Record(part, fleet.Itself)
			t.read(r, l, part)
			return true
		},
		clear: func(from *T) {
			var none U
			*at(from) = none
		},
		rows:     func(of *T, prefix string, add func(Row)) { t.sheet(at(of), prefix+".", add) },
		validate: func(r *Reader, of *T) { t.validate(r, at(of)) },
		below:    func(prefix string) []Key { return t.list(prefix + ".") },
		schema:   t.schema,
	}
}

// named is a map from names that people choose to nouns. A noun may be left empty if
// all its keys have defaults.
func named[T, U any, P noun[U]](t *table[U, P], rule nameRule, listOf func(*T) *[]P, nameOf func(P) *string) value[T] {
	return value[T]{
		name: "map of names",
		read: func(r *Reader, l document.Layer, into *T) bool {
			if !r.wantMap(l, "a map of names") {
				return false
			}
			list := listOf(into)
			// Only what other layers contributed can occur again.
			inherited := len(*list)
			for e := range l.Entries(r.Faults) {
				r.Enter(e.Name())
				at := slices.IndexFunc((*list)[:inherited], func(noun P) bool { return *nameOf(noun) == e.Name() })
				switch {
				case e.IsNone() && at >= 0:
					*list = slices.Delete(slices.Clone(*list), at, at+1)
					inherited--
				case e.IsNone():
					if !r.partial {
						r.nothingInherited(e)
					}
				default:
					r.checkName(e, rule, t.what)
					if at < 0 {
						at = len(*list)
						var part P = new(U)
						*nameOf(part) = e.Name()
						*list = append(*list, part)
					}
					part := (*list)[at]
					t.reserve(part, e)
					e.AtKey().Record(part, fleet.Itself)
					t.read(r, e, part)
				}
				r.Leave()
			}
			return true
		},
		clear: func(from *T) { *listOf(from) = nil },
		rows: func(of *T, prefix string, add func(Row)) {
			nouns := *listOf(of)
			if len(nouns) == 0 {
				add(Row{Path: prefix, Value: "none", Origin: fleet.Origin{Via: fleet.Default}})
			}
			for _, noun := range nouns {
				t.sheet(noun, prefix+"."+*nameOf(noun)+".", add)
			}
		},
		validate: func(r *Reader, of *T) {
			for _, noun := range *listOf(of) {
				r.Enter(*nameOf(noun))
				t.validate(r, noun)
				r.Leave()
			}
		},
		below:  func(prefix string) []Key { return t.list(prefix + ".NAME.") },
		schema: func() schema { return mapSchema(t.schema()) },
	}
}

// listed is a list of maps, such as the rules of a firewall.
func listed[T, U any, P noun[U]](t *table[U, P], list func(*T) *[]P) value[T] {
	return value[T]{
		name: "list of maps",
		read: func(r *Reader, l document.Layer, into *T) bool {
			if l.Node.Kind != yaml.SequenceNode {
				if l.IsNull() {
					r.emptyValue(l)
					return false
				}
				return r.wrongType(l, "a list of maps", "start each entry with a hyphen")
			}
			for i, item := range l.Items(r.Faults) {
				r.Enter(strconv.Itoa(i + 1))
				var part P = new(U)
				item.Record(part, fleet.Itself)
				t.read(r, item, part)
				*list(into) = append(*list(into), part)
				r.Leave()
			}
			return true
		},
		clear: func(from *T) { *list(from) = nil },
		rows: func(of *T, prefix string, add func(Row)) {
			for i, noun := range *list(of) {
				t.sheet(noun, prefix+"."+strconv.Itoa(i+1)+".", add)
			}
		},
		validate: func(r *Reader, of *T) {
			for i, noun := range *list(of) {
				r.Enter(strconv.Itoa(i + 1))
				t.validate(r, noun)
				r.Leave()
			}
		},
		below:  func(prefix string) []Key { return t.list(prefix + ".") },
		schema: func() schema { return schema{"type": "array", "items": t.schema()} },
	}
}
