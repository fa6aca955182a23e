package source

import (
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/nearest"
)

// origins is what every noun keeps beside its values.
type origins interface {
	Set(key string, source *fleet.Source, line, column int32)
	SetItem(key, item string, source *fleet.Source, line, column int32)
	Expect(n int)
	Knows(key string) bool
	ClearOrigin(key string)
	OriginOf(key string) fleet.Origin
	PlaceOf(key string) fleet.Place
}

// noun is a pointer to a part of the fleet.
type noun[T any] interface {
	*T
	origins
}

// field is one key of the language: what it is called, what it means, how it is
// read. The tables of fields are the language: the reader, the schema, the page
// about it and the sheet that show prints all come from them.
type field[T any] struct {
	key string
	// doc is a sentence for the language page, without the default.
	doc string
	// standard is the default in words, or empty where there is none.
	standard string
	// example is a value as it would be written.
	example  string
	required bool
	kind     kind[T]
}

// kind is a type of value and where it goes in a T.
type kind[T any] struct {
	// name is the type in words, for the language page.
	name string
	// read puts the value into the noun. It reports faults and returns whether
	// there is a value now.
	read func(r *reader, l layer, into *T) bool
	// clear takes away what was read, for the word none.
	clear func(from *T)
	// print writes the value for the sheet of a machine; "" is no value.
	print func(of *T) string
	// rows is print for kinds that hold further keys.
	rows func(of *T, prefix string, add func(Row))
	// validate holds what was read together to the rules of the nouns below.
	validate func(r *reader, of *T)
	// below documents the keys below this one, or is nil where there are none.
	below func(prefix string) []Key
	// schema describes the value as JSON Schema does.
	schema func() schema
}

// table is the keys of one noun.
type table[T any, P noun[T]] struct {
	// what names the noun in messages, such as "a disk".
	what   string
	fields []field[T]
	// each looks at one layer after it was read, finish at the whole noun after
	// all layers were. Either may be nil.
	each   func(r *reader, into P, l layer)
	finish func(r *reader, of P)

	// secret says that what people write here by mistake may be a secret, so that
	// no message repeats it and its line is not shown.
	secret bool

	index map[string]int
	keys  []string
	// defaults counts the keys that are filled in when left out.
	defaults int
}

func newTable[T any, P noun[T]](what string, finish func(r *reader, of P), fields ...field[T]) *table[T, P] {
	t := &table[T, P]{what: what, fields: fields, finish: finish, index: map[string]int{}}
	for i, f := range fields {
		t.index[f.key] = i
		t.keys = append(t.keys, f.key)
		if f.standard != "" {
			t.defaults++
		}
	}
	return t
}

// read fills a noun from the map of one layer, in the order of the table.
func (t *table[T, P]) read(r *reader, l layer, into P) {
	switch {
	case isNull(l.node):
		return
	case l.node.Kind != yaml.MappingNode:
		if t.secret {
			r.secretFault(ruleWrongType, l, r.here()+" is "+t.what+" and takes a map", "write its keys below it; known are "+nearest.Some(t.keys))
			r.spoilt(into, shapeless)
			return
		}
		subject := r.here()
		if len(r.path) > 0 && r.path[len(r.path)-1] != t.what {
			subject += " is " + t.what + " and"
		}
		r.fault(ruleWrongType, l, subject+" takes a map, but this is "+describe(l.node),
			"write its keys below it, each on a line of its own; known are "+nearest.Some(t.keys))
		r.spoilt(into, shapeless)
		return
	}
	for e := range r.entries(l) {
		i, known := t.index[e.name()]
		if !known && r.full() {
			r.unlisted++
			continue
		}
		if !known && t.secret {
			r.secretFault(ruleUnknownKey, e.atKey(), t.what+" has no such key", "known are "+nearest.Some(t.keys))
			continue
		}
		r.enter(e.name())
		if !known {
			r.fault(ruleUnknownKey, e.atKey(), t.what+" has no key "+quoted(e.name()), nearest.Remedy(e.name(), t.keys))
			r.leave()
			continue
		}
		f := &t.fields[i]
		switch {
		case isNone(e.node) && f.kind.clear != nil:
			t.none(r, f, e, into)
		case f.kind.read(r, e, (*T)(into)):
			e.record(into, f.key)
		default:
			// A value that was at fault is no missing one.
			e.record(into, f.key)
			r.spoilt(into, inPart)
		}
		r.leave()
	}
	if t.each != nil {
		t.each(r, into, l)
	}
}

// reserve makes room for the origins of what a layer says and of the defaults.
func (t *table[T, P]) reserve(of P, l layer) { of.Expect(len(l.node.Content)/2 + t.defaults + 1) }

// none takes away an inherited value.
func (t *table[T, P]) none(r *reader, f *field[T], e layer, from P) {
	if !from.Knows(f.key) && !r.partial {
		r.nothingInherited(e)
		return
	}
	f.kind.clear((*T)(from))
	from.ClearOrigin(f.key)
}

func (r *reader) nothingInherited(e layer) {
	r.fault(ruleNothingInherited, e, "there is no inherited "+quoted(e.name())+" to take away",
		"remove the line, or check the name; text that is the word none goes in quotes")
}

// validate holds a noun that all layers were read into to its rules.
func (t *table[T, P]) validate(r *reader, of P) {
	for i := range t.fields {
		f := &t.fields[i]
		if f.required && !of.Knows(f.key) && r.spoiltness(of) < shapeless {
			r.faultAt(ruleMissingKey, of.PlaceOf(fleet.Itself), t.what+" needs the key "+quoted(f.key), "add `"+f.key+": "+f.example+"`")
		}
		if f.kind.validate != nil {
			r.enter(f.key)
			f.kind.validate(r, (*T)(of))
			r.leave()
		}
	}
	if t.finish != nil && r.spoiltness(of) == sound {
		t.finish(r, of)
	}
}

// object is a map of known keys that becomes part of the noun.
func object[T, U any, P noun[U]](t *table[U, P], at func(*T) P) kind[T] {
	return kind[T]{
		name: "map",
		read: func(r *reader, l layer, into *T) bool {
			if isNull(l.node) {
				r.emptyValue(l)
				return false
			}
			part := at(into)
			t.reserve(part, l)
			l.atKey().record(part, fleet.Itself)
			t.read(r, l, part)
			return true
		},
		clear: func(from *T) {
			var none U
			*at(from) = none
		},
		rows:     func(of *T, prefix string, add func(Row)) { t.sheet(at(of), prefix+".", add) },
		validate: func(r *reader, of *T) { t.validate(r, at(of)) },
		below:    func(prefix string) []Key { return t.list(prefix + ".") },
		schema:   t.schema,
	}
}

// names says how a map of names that people choose is kept.
type names[T any, P any] struct {
	// rule is what a name has to look like.
	rule nameRule
	// list is where the nouns are kept.
	list func(*T) *[]P
	// make makes a noun of a name, and of says the name of a noun.
	make func(name string) P
	of   func(P) string
}

// named is a map of names that people choose, each with a noun behind it.
// Nouns may be left empty where every key has a default.
func named[T, U any, P noun[U]](t *table[U, P], n names[T, P]) kind[T] {
	return kind[T]{
		name: "map of names",
		read: func(r *reader, l layer, into *T) bool {
			if !r.wantMap(l, "a map of names") {
				return false
			}
			list := n.list(into)
			// Only what other layers brought can be met again.
			inherited := len(*list)
			for e := range r.entries(l) {
				r.enter(e.name())
				at := -1
				for i := range inherited {
					if n.of((*list)[i]) == e.name() {
						at = i
					}
				}
				switch {
				case isNone(e.node) && at >= 0:
					*list = append((*list)[:at:at], (*list)[at+1:]...)
					inherited--
				case isNone(e.node):
					if !r.partial {
						r.nothingInherited(e)
					}
				default:
					if remedy := n.rule(e.name()); remedy != "" {
						r.fault(ruleBadName, e.atKey(), quoted(e.name())+" cannot be the name of "+t.what, remedy)
					}
					if at < 0 {
						at = len(*list)
						*list = append(*list, n.make(e.name()))
					}
					part := (*list)[at]
					t.reserve(part, e)
					e.atKey().record(part, fleet.Itself)
					t.read(r, e, part)
				}
				r.leave()
			}
			return true
		},
		clear: func(from *T) { *n.list(from) = nil },
		rows: func(of *T, prefix string, add func(Row)) {
			nouns := *n.list(of)
			if len(nouns) == 0 {
				add(Row{Path: prefix, Value: "none", Origin: fleet.Origin{Via: fleet.Default}})
			}
			for _, noun := range nouns {
				t.sheet(noun, prefix+"."+n.of(noun)+".", add)
			}
		},
		validate: func(r *reader, of *T) {
			for _, noun := range *n.list(of) {
				r.enter(n.of(noun))
				t.validate(r, noun)
				r.leave()
			}
		},
		below:  func(prefix string) []Key { return t.list(prefix + ".NAME.") },
		schema: func() schema { return mapSchema(t.schema()) },
	}
}

// listed is a list of maps, such as the rules of a firewall.
func listed[T, U any, P noun[U]](t *table[U, P], list func(*T) *[]P) kind[T] {
	return kind[T]{
		name: "list of maps",
		read: func(r *reader, l layer, into *T) bool {
			if l.node.Kind != yaml.SequenceNode {
				if isNull(l.node) {
					r.emptyValue(l)
					return false
				}
				return r.wrongType(l, "a list of maps", "start each entry with a hyphen")
			}
			for i, node := range l.node.Content {
				item := layer{node: node, document: l.document, via: l.via}
				if !r.plainNode(item) {
					continue
				}
				r.enter(itoa(i + 1))
				var part P = new(U)
				item.record(part, fleet.Itself)
				t.read(r, item, part)
				*list(into) = append(*list(into), part)
				r.leave()
			}
			return true
		},
		clear: func(from *T) { *list(from) = nil },
		rows: func(of *T, prefix string, add func(Row)) {
			for i, noun := range *list(of) {
				t.sheet(noun, prefix+"."+itoa(i+1)+".", add)
			}
		},
		validate: func(r *reader, of *T) {
			for i, noun := range *list(of) {
				r.enter(itoa(i + 1))
				t.validate(r, noun)
				r.leave()
			}
		},
		below:  func(prefix string) []Key { return t.list(prefix + ".") },
		schema: func() schema { return schema{"type": "array", "items": t.schema()} },
	}
}

func (r *reader) wantMap(l layer, what string) bool {
	switch {
	case isNull(l.node):
		r.emptyValue(l)
		return false
	case l.node.Kind != yaml.MappingNode:
		r.fault(ruleWrongType, l, r.here()+" takes "+what+", but this is "+describe(l.node),
			"write `NAME:` below it, with the keys of each below its name")
		return false
	}
	return true
}

func (r *reader) emptyValue(l layer) {
	r.fault(ruleEmptyValue, l, r.here()+" is empty", "write a value, or remove the line to get the default")
}

// Key documents one key of the language.
type Key struct {
	// Path leads to the key from the top of a definition; NAME stands for names
	// that people choose.
	Path string
	// Type is the type of value in words.
	Type string
	// Doc is a sentence on what it means.
	Doc string
	// Default is what holds when it is left out, in words, or empty.
	Default string
	// Example is a value as it would be written.
	Example  string
	Required bool
}

// Keys lists every key of the language, each map before what is in it. What
// kits and variants can say is what machines can, and is listed once.
func Keys() []Key { return fleetTable.list("") }

func (t *table[T, P]) list(prefix string) []Key {
	var keys []Key
	for _, f := range t.fields {
		keys = append(keys, Key{prefix + f.key, f.kind.name, f.doc, f.standard, f.example, f.required})
		if f.kind.below != nil {
			keys = append(keys, f.kind.below(prefix+f.key)...)
		}
	}
	return keys
}

// Row is one value of a noun as the sheet shows it.
type Row struct {
	// Path leads to the value from the noun, such as "disks.root.size".
	Path  string
	Value string
	// Origin is where it came from. It is a default where nobody wrote it.
	Origin fleet.Origin
}

// Sheet lists every value of a machine, defaults included.
func Sheet(m *fleet.Machine) []Row {
	var rows []Row
	machineTable.sheet(m, "", func(row Row) {
		// The root disk's file system is the image's own affair.
		key, ofRoot := strings.CutPrefix(row.Path, "disks."+fleet.RootDisk+".")
		if ofRoot && (key == "filesystem" || key == "label" || key == "mount" || key == "options") {
			return
		}
		rows = append(rows, row)
	})
	return rows
}

func (t *table[T, P]) sheet(of P, prefix string, add func(Row)) {
	for _, f := range t.fields {
		if f.kind.rows != nil {
			f.kind.rows((*T)(of), prefix+f.key, add)
			continue
		}
		if f.kind.print == nil {
			continue
		}
		row := Row{Path: prefix + f.key, Value: f.kind.print((*T)(of)), Origin: of.OriginOf(f.key)}
		if row.Value == "" {
			row.Value = "none"
		}
		if row.Origin == (fleet.Origin{}) {
			row.Origin.Via = fleet.Default
		}
		add(row)
	}
}
