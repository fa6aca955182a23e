package language

import (
	"sync"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
	"stavren.example/stavren/internal/nearest"
)

// origins is what every noun keeps beside its values.
type origins interface {
	document.Origins
	Expect(n int)
	Knows(key string) bool
	ClearOrigin(key string)
	OriginOf(key string) fleet.Origin
	PlaceOf(key string) fleet.Place
}

// noun is a pointer to a part of a fleet.
type noun[T any] interface {
	*T
	origins
}

// field is one key of the language. The reader, the JSON Schema, the language page
// and the sheet that show prints all come from the tables of fields.
type field[T any] struct {
	key string
	// doc is a sentence for the language page, without the default.
	doc string
	// def is the default in words, or empty if there is none.
	def string
	// example is an example of the value.
	example  string
	required bool
	value    value[T]
}

// value is a type of value, and where it is kept in a T.
type value[T any] struct {
	// name is the type in words, for the language page.
	name string
	// read reads the value into the noun. It reports faults, and returns whether there
	// is a value now.
	read func(r *Reader, l document.Layer, into *T) bool
	// clear removes what was read, for the word none. It is nil if that is impossible.
	clear func(from *T)
	// print writes the value for the sheet of a machine. "" stands for no value.
	print func(of *T) string
	// rows replaces print for values that have keys of their own.
	rows func(of *T, prefix string, add func(Row))
	// validate checks the nouns within the value.
	validate func(r *Reader, of *T)
	// below documents the keys within the value. It is nil if there are none.
	below func(prefix string) []Key
	// schema describes the value in JSON Schema.
	schema func() schema
}

// table lists the keys of one noun.
type table[T any, P noun[T]] struct {
	// what names the noun in messages, such as "a disk".
	what string
	// fields are made by make when they are first needed.
	fields func() fields[T]
	// each checks one layer after it was read, and finish the noun after all layers
	// were. Either may be nil.
	each   func(r *Reader, into P, l document.Layer)
	finish func(r *Reader, of P)
	// secret says that people write secrets here by mistake, so that no message
	// repeats a value and no line is shown.
	secret bool
}

// fields are the fields of a table, with an index.
type fields[T any] struct {
	list  []field[T]
	index map[string]int
	keys  []string
	// defaults is the number of keys that are filled in if they are left out.
	defaults int
}

// newTable returns a table. Its fields are made when they are first needed, since
// most commands need few of the tables.
func newTable[T any, P noun[T]](what string, finish func(r *Reader, of P), list func() []field[T]) *table[T, P] {
	return &table[T, P]{what: what, finish: finish, fields: sync.OnceValue(func() fields[T] {
		all := fields[T]{list: list(), index: map[string]int{}}
		for i, f := range all.list {
			all.index[f.key] = i
			all.keys = append(all.keys, f.key)
			if f.def != "" {
				all.defaults++
			}
		}
		return all
	})}
}

// read fills a noun from the map of one layer.
func (t *table[T, P]) read(r *Reader, l document.Layer, into P) {
	if l.IsNull() {
		return
	}
	if l.Node.Kind != yaml.MappingNode {
		t.reportNoMap(r, l)
		r.setDamage(into, unread)
		return
	}
	if l.IsTooLong(r.Faults, len(l.Node.Content)/2) {
		r.setDamage(into, unread)
		return
	}
	fields := t.fields()
	for e := range l.Entries(r.Faults) {
		i, ok := fields.index[e.Name()]
		switch {
		case ok:
			r.Enter(e.Name())
			t.readField(r, &fields.list[i], e, into)
			r.Leave()
		case r.Full():
			r.Skip()
		case t.secret:
			r.AddSecret(document.UnknownKey, e.AtKey(), t.what+" has no such key",
				"known are "+nearest.Some(fields.keys))
		default:
			r.Enter(e.Name())
			r.Add(document.UnknownKey, e.AtKey(), t.what+" has no key "+quoted(e.Name()),
				nearest.Remedy(e.Name(), fields.keys))
			r.Leave()
		}
	}
	if t.each != nil {
		t.each(r, into, l)
	}
}

func (t *table[T, P]) reportNoMap(r *Reader, l document.Layer) {
	keys := nearest.Some(t.fields().keys)
	if t.secret {
		r.AddSecret(document.WrongType, l, r.Here()+" is "+t.what+" and must be a map",
			"write its keys below it; known are "+keys)
		return
	}
	subject := r.Here()
	if key := r.Key(); key != "" && key != t.what {
		subject += " is " + t.what + " and"
	}
	r.Add(document.WrongType, l, subject+" must be a map, but this is "+document.Describe(l.Node),
		"write its keys below it, each on a line of its own; known are "+keys)
}

func (t *table[T, P]) readField(r *Reader, f *field[T], e document.Layer, into P) {
	switch {
	case e.IsNone() && f.value.clear != nil:
		t.remove(r, f, e, into)
	case f.value.read(r, e, (*T)(into)):
		e.Record(into, f.key)
	default:
		// A value with a fault isn't a missing one.
		e.Record(into, f.key)
		r.setDamage(into, incomplete)
	}
}

// reserve makes room for the origins of a layer's values and of the defaults.
func (t *table[T, P]) reserve(of P, l document.Layer) {
	of.Expect(len(l.Node.Content)/2 + t.fields().defaults + 1)
}

// remove removes an inherited value.
func (t *table[T, P]) remove(r *Reader, f *field[T], e document.Layer, from P) {
	if !from.Knows(f.key) && !r.partial {
		r.nothingInherited(e)
		return
	}
	f.value.clear((*T)(from))
	from.ClearOrigin(f.key)
}

func (r *Reader) nothingInherited(e document.Layer) {
	r.Add(document.NothingInherited, e, "there is no inherited "+quoted(e.Name())+" to remove",
		"remove the line, or check the name; text that is the word none goes in quotes")
}

// validate checks a noun after all its layers were read.
func (t *table[T, P]) validate(r *Reader, of P) {
	list := t.fields().list
	for i := range list {
		f := &list[i]
		if f.required && !of.Knows(f.key) && r.damageOf(of) < unread {
			r.AddAt(document.MissingKey, of.PlaceOf(fleet.Itself), t.what+" needs the key "+quoted(f.key),
				"add `"+f.key+": "+f.example+"`")
		}
		if f.value.validate != nil {
			r.Enter(f.key)
			f.value.validate(r, (*T)(of))
			r.Leave()
		}
	}
	if t.finish != nil && r.damageOf(of) == intact {
		t.finish(r, of)
	}
}
