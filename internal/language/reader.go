// Package language is the language of definitions. It consists of tables: one entry
// per key says what the key means and how its value is read, printed and described to
// editors. machine.go has the keys of machines, users.go those of users, and so on;
// definition.go has the top of a file.
//
// A [Reader] reads layers of a document into the nouns of package fleet. Package load
// decides which layers there are.
package language

import (
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
)

// Version is the version of the language that this package reads.
const Version = "1"

// MaxCopies is the most copies of a machine.
const MaxCopies = 1000

// Reader reads layers into nouns, and reports what is wrong with them.
type Reader struct {
	*document.Faults
	files *document.Files
	// partial says that other layers follow, as for kits: a value that is removed
	// with none need not be there.
	partial bool
	damaged map[any]damage
}

// NewReader returns a Reader that reports to faults and opens files by files.
func NewReader(faults *document.Faults, files *document.Files) *Reader {
	return &Reader{Faults: faults, files: files, damaged: map[any]damage{}}
}

// Partial returns a reader for layers that others follow, such as kits.
func (r *Reader) Partial() *Reader {
	partial := *r
	partial.partial = true
	return &partial
}

// damage says how much of a noun is missing because of faults, so that what follows
// from a fault isn't reported as well.
type damage int

const (
	intact damage = iota
	// incomplete nouns lack a value, so rules on several values don't apply.
	incomplete
	// unread nouns were not maps at all, so nothing is known of them.
	unread
)

func (r *Reader) setDamage(noun any, d damage) { r.damaged[noun] = max(r.damaged[noun], d) }

func (r *Reader) damageOf(noun any) damage {
	if len(r.damaged) == 0 {
		return intact
	}
	return r.damaged[noun]
}

// ReadMachine reads a layer of a machine.
func (r *Reader) ReadMachine(l document.Layer, into *fleet.Machine) { machineTable.read(r, l, into) }

// ReadPart reads a kit, or what a variant changes in a machine, only for its faults.
func (r *Reader) ReadPart(l document.Layer) {
	m := &fleet.Machine{}
	l.AtKey().Record(m, fleet.Itself)
	machineTable.read(r.Partial(), l, m)
}

// Reserve makes room for the origins of a machine that consists of one layer.
func Reserve(m *fleet.Machine, l document.Layer) { machineTable.reserve(m, l) }

// FinishMachine checks a machine after all its layers have been read.
func (r *Reader) FinishMachine(m *fleet.Machine) { machineTable.validate(r, m) }
