package source

import (
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/nearest"
)

// noun is a pointer to a part of the fleet, which keeps the origins of its values.
type noun[T any] interface {
	*T
	SetOrigin(key string, origin fleet.Origin)
	OriginOf(key string) fleet.Origin
	PlaceOf(key string) fleet.Place
}

// field is one key of the language: what it is called, what it means, how it is
// read. The tables of fields are the language: the reader, the pages about it
// and the sheet that show prints all come from them.
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
	read func(r *reader, v view, into *T) bool
	// print writes the value for the sheet of a machine; "" is no value.
	print func(of *T) string
	// rows is print for kinds that hold further keys.
	rows func(of *T, prefix string, add func(Row))
	// below documents the keys below this one, or is nil where there are none.
	below func(prefix string) []Key
}

// table is the keys of one noun.
type table[T any, P noun[T]] struct {
	// what names the noun in messages, such as "a disk".
	what   string
	fields []field[T]
	// finish checks what no single key can, after all were read.
	finish func(r *reader, into P, place layer)

	index map[string]int
	keys  []string
}

func newTable[T any, P noun[T]](what string, finish func(r *reader, into P, place layer), fields ...field[T]) *table[T, P] {
	t := &table[T, P]{what: what, fields: fields, finish: finish, index: map[string]int{}}
	for i, f := range fields {
		t.index[f.key] = i
		t.keys = append(t.keys, f.key)
	}
	return t
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

// Keys lists every key of the language, each map before what is in it.
func Keys() []Key { return fleetTable.list("") }

func (t *table[T, P]) list(prefix string) []Key {
	var keys []Key
	for _, f := range t.fields {
		keys = append(keys, Key{prefix + f.key, f.kind.name, f.doc, f.standard, f.example, f.required})
		if f.kind.below != nil {
			keys = append(keys, f.kind.below(prefix+f.key+".")...)
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
		if ofRoot && (key == "filesystem" || key == "label" || key == "mount") {
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

// read fills a noun from the map of a view.
func (t *table[T, P]) read(r *reader, v view, into P) {
	for _, l := range v {
		if l.node.Kind != yaml.MappingNode && !isNull(l.node) {
			subject := r.here()
			if len(r.path) > 0 && r.path[len(r.path)-1] != t.what {
				subject += " is " + t.what + " and"
			}
			r.fault(ruleWrongType, l, subject+" takes a map, but this is "+describe(l.node),
				"write its keys below it, each on a line of its own; known are "+nearest.Some(t.keys))
			return
		}
	}
	seen := uint64(0)
	for _, e := range r.entries(v) {
		i, known := t.index[e.name()]
		if !known {
			r.enter(e.name())
			r.fault(ruleUnknownKey, e.key, t.what+" has no key "+quoted(e.name()), nearest.Remedy(e.name(), t.keys))
			r.leave()
			continue
		}
		f := &t.fields[i]
		seen |= 1 << i
		r.enter(f.key)
		if f.kind.read(r, e.view, (*T)(into)) {
			into.SetOrigin(f.key, e.view.top().origin())
		}
		r.leave()
	}
	for i, f := range t.fields {
		if f.required && seen&(1<<i) == 0 {
			place := v.top()
			if place.key != nil {
				place.node = place.key
			}
			r.fault(ruleMissingKey, place, t.what+" needs the key "+quoted(f.key), "add `"+f.key+": "+f.example+"`")
		}
	}
	if t.finish != nil {
		t.finish(r, into, v.top())
	}
}

// object is a map of known keys that becomes part of the noun.
func object[T, U any, P noun[U]](t *table[U, P], at func(*T) P) kind[T] {
	return kind[T]{name: "map", below: t.list, rows: func(of *T, prefix string, add func(Row)) {
		t.sheet(at(of), prefix+".", add)
	}, read: func(r *reader, v view, into *T) bool {
		if top := v.top(); isNull(top.node) {
			r.emptyValue(top)
			return false
		}
		part := at(into)
		part.SetOrigin(fleet.Itself, keyOrigin(v.top()))
		t.read(r, v, part)
		return true
	}}
}

// keyOrigin is where the key of a layer stands, or its value if it has no key.
func keyOrigin(l layer) fleet.Origin {
	if l.key != nil {
		l.node = l.key
	}
	return l.origin()
}

// named is a map of names that people choose, each with a noun behind it.
// Nouns may be left empty where every key has a default.
func named[T, U any, P noun[U]](t *table[U, P], checkName nameRule, list func(*T) []P, nameOf func(P) string, put func(into *T, name string) P) kind[T] {
	below := func(prefix string) []Key { return t.list(prefix + "NAME.") }
	rows := func(of *T, prefix string, add func(Row)) {
		nouns := list(of)
		if len(nouns) == 0 {
			add(Row{Path: prefix, Value: "none", Origin: fleet.Origin{Via: fleet.Default}})
		}
		for _, noun := range nouns {
			t.sheet(noun, prefix+"."+nameOf(noun)+".", add)
		}
	}
	return kind[T]{name: "map of names", below: below, rows: rows, read: func(r *reader, v view, into *T) bool {
		if !r.wantMap(v, "a map of names") {
			return false
		}
		for _, e := range r.entries(v) {
			r.enter(e.name())
			if remedy := checkName(e.name()); remedy != "" {
				r.fault(ruleBadName, e.key, quoted(e.name())+" cannot be the name of "+t.what, remedy)
			}
			part := put(into, e.name())
			part.SetOrigin(fleet.Itself, e.key.origin())
			t.read(r, e.view, part)
			r.leave()
		}
		return true
	}}
}

func (r *reader) wantMap(v view, what string) bool {
	for _, l := range v {
		switch {
		case isNull(l.node):
			r.emptyValue(l)
			return false
		case l.node.Kind != yaml.MappingNode:
			r.fault(ruleWrongType, l, r.here()+" takes "+what+", but this is "+describe(l.node),
				"write `NAME:` below it, with the keys of each below its name")
			return false
		}
	}
	return true
}

func (r *reader) emptyValue(l layer) {
	r.fault(ruleEmptyValue, l, r.here()+" is empty", "write a value, or remove the line to get the default")
}
