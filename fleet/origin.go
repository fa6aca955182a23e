package fleet

import "strconv"

// Place is a position in a definition file or in a file that it names. Line and
// Column count from 1; columns are in characters. The zero Place is unknown.
type Place struct {
	File   string
	Line   int32
	Column int32
}

// IsValid reports whether p is a line of a file.
func (p Place) IsValid() bool { return p.Line > 0 }

// String returns FILE:LINE:COLUMN, or only the file if the line is unknown.
func (p Place) String() string {
	if !p.IsValid() {
		return p.File
	}
	return p.File + ":" + strconv.Itoa(int(p.Line)) + ":" + strconv.Itoa(int(p.Column))
}

// Default is the Via of a value that nobody wrote.
const Default = "default"

// Origin says where a value came from. Via is empty for a value written in the noun
// itself, [Default] for one that was filled in, and otherwise names where it was
// inherited from, such as "kit shore" or "variant rehearsal".
type Origin struct {
	Place
	Via string
}

// IsDefault reports whether the value was filled in rather than written.
func (o Origin) IsDefault() bool { return o.Via == Default }

// Source is what many values of one file have in common. Readers share it, since a
// fleet has as many origins as values.
type Source struct {
	File string
	Via  string
}

// byDefault is the source of every value that was filled in.
var byDefault = &Source{Via: Default}

// Origins records where the values of one noun came from. The zero value is ready to
// use. It knows nothing, as for a noun that a program built.
type Origins struct {
	entries []originEntry
}

type originEntry struct {
	key          string
	source       *Source
	line, column int32
}

// Itself is the key for the place of the noun itself.
const Itself = ""

// Set records where the value of key came from.
func (o *Origins) Set(key string, source *Source, line, column int32) {
	for i := range o.entries {
		if e := &o.entries[i]; e.key == key {
			e.source, e.line, e.column = source, line, column
			return
		}
	}
	if o.entries == nil {
		// Most nouns have two to six values, so this avoids growing.
		o.entries = make([]originEntry, 0, 4)
	}
	o.entries = append(o.entries, originEntry{key, source, line, column})
}

// Expect makes room for n values, for a reader that knows how many there will be.
func (o *Origins) Expect(n int) {
	if o.entries == nil {
		o.entries = make([]originEntry, 0, n)
	}
}

// SetOrigin is like Set, for an origin that shares its source with no other.
func (o *Origins) SetOrigin(key string, origin Origin) {
	o.Set(key, &Source{origin.File, origin.Via}, origin.Line, origin.Column)
}

// ClearOrigin forgets where the value of key came from.
func (o *Origins) ClearOrigin(key string) {
	for i := range o.entries {
		if o.entries[i].key == key {
			o.entries = append(o.entries[:i:i], o.entries[i+1:]...)
			return
		}
	}
}

// cloneOrigins returns a copy with room for the values and defaults that most clones
// get next.
func (o *Origins) cloneOrigins() Origins {
	if o.entries == nil {
		return Origins{}
	}
	entries := make([]originEntry, len(o.entries), len(o.entries)+6)
	copy(entries, o.entries)
	return Origins{entries}
}

// markDefault records that the value of key was filled in.
func (o *Origins) markDefault(key string) { o.Set(key, byDefault, 0, 0) }

// Knows reports whether the origin of the value of key is known: whether it was
// written or filled in.
func (o *Origins) Knows(key string) bool {
	for i := range o.entries {
		if o.entries[i].key == key {
			return true
		}
	}
	return false
}

// OriginOf returns where the value of key came from. It returns the zero Origin for a
// value that is absent or that a program set.
func (o *Origins) OriginOf(key string) Origin {
	for i := range o.entries {
		if e := &o.entries[i]; e.key == key {
			return Origin{Place{e.source.File, e.line, e.column}, e.source.Via}
		}
	}
	return Origin{}
}

// PlaceOf returns the place of the value of key, or of the noun itself if the value
// has none, so that a finding always has a place.
func (o *Origins) PlaceOf(key string) Place {
	if place := o.OriginOf(key).Place; place.IsValid() {
		return place
	}
	return o.OriginOf(Itself).Place
}

// SetItem records where one entry of the list or map behind key came from.
func (o *Origins) SetItem(key, item string, source *Source, line, column int32) {
	o.Set(itemKey(key, item), source, line, column)
}

// PlaceOfItem returns the place of one entry of the list or map behind key, or of the
// whole list if the entry has none.
func (o *Origins) PlaceOfItem(key, item string) Place {
	if place := o.OriginOf(itemKey(key, item)).Place; place.IsValid() {
		return place
	}
	return o.PlaceOf(key)
}

func itemKey(key, item string) string { return key + "=" + item }

// IsDefault reports whether the value of key was filled in rather than written.
func (o *Origins) IsDefault(key string) bool { return o.OriginOf(key).IsDefault() }
