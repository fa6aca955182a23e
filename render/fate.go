package render

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
)

// Outcome is what becomes of a field in a target.
type Outcome int

// The outcomes.
const (
	// Carried means that the target expresses the same thing.
	Carried Outcome = iota
	// Adapted means that the target expresses it in another way.
	Adapted
	// LeftOut means that the target can't express it.
	LeftOut
)

// String returns "carried", "adapted" or "left out".
func (o Outcome) String() string {
	return [...]string{"carried", "adapted", "left out"}[o]
}

// Fate is what becomes of one field of a definition in a target.
type Fate struct {
	// Field is the noun and its key, such as "port.listen".
	Field   string
	Outcome Outcome
	// How says in which other way, or why not. It is empty for a carried field.
	How string
}

// Carry returns the fates of fields that are carried.
func Carry(fields ...string) []Fate {
	fates := make([]Fate, len(fields))
	for i, field := range fields {
		fates[i] = Fate{Field: field}
	}
	return fates
}

// LeaveOut returns the fates of fields that are left out, all for the same reason.
func LeaveOut(why string, fields ...string) []Fate {
	fates := make([]Fate, len(fields))
	for i, field := range fields {
		fates[i] = Fate{Field: field, Outcome: LeftOut, How: why}
	}
	return fates
}

// Adapt returns the fates of fields that are adapted, all in the same way.
func Adapt(how string, fields ...string) []Fate {
	fates := make([]Fate, len(fields))
	for i, field := range fields {
		fates[i] = Fate{Field: field, Outcome: Adapted, How: how}
	}
	return fates
}

// Merge joins lists of fates. Of two fates for one field, the later one applies.
func Merge(lists ...[]Fate) []Fate {
	at := map[string]int{}
	var fates []Fate
	for _, list := range lists {
		for _, fate := range list {
			if i, ok := at[fate.Field]; ok {
				fates[i] = fate
				continue
			}
			at[fate.Field] = len(fates)
			fates = append(fates, fate)
		}
	}
	return fates
}

// Note is a fate that affects a definition: somebody wrote a value that the target
// adapts or leaves out.
type Note struct {
	Fate
	// Where lists the names of the machines or other nouns that have it, in order.
	Where []string
}

// Notes returns what a target adapts or leaves out of what the fleet asks for, in
// the order of the target's fates.
func Notes(target Target, f *fleet.Fleet, options Options) []Note {
	asked := map[string][]string{}
	note := func(noun any, owner string) {
		visitAsked(reflect.ValueOf(noun).Elem(), owner, func(field, owner string) {
			if list := asked[field]; len(list) == 0 || list[len(list)-1] != owner {
				asked[field] = append(list, owner)
			}
		})
	}
	job := &Job{Fleet: f, Options: options}
	machines := job.Machines()
	used := f.UsedBy(machines)
	note(f, "")
	noteUsed(note, f.Systems, used.Systems, func(s *fleet.System) string { return s.Name })
	noteUsed(note, f.Secrets, used.Secrets, func(s *fleet.Secret) string { return s.Name })
	noteUsed(note, f.Firewalls, used.Firewalls, func(w *fleet.Firewall) string { return w.Name })
	noteUsed(note, f.Platforms, map[string]bool{target.Name: true}, func(p *fleet.Platform) string { return p.Name })
	noteUsed(note, f.Images, used.Images, func(i *fleet.Image) string { return i.Name })
	noteUsed(note, f.Networks, used.Networks, func(n *fleet.Network) string { return n.Name })
	noteUsed(note, f.Keys, used.Keys, func(k *fleet.Key) string { return k.Name })
	for _, m := range f.Machines {
		if slices.Contains(machines, m) {
			note(m, m.Name)
		}
	}
	return target.notes(job, asked)
}

// notes groups what was asked for by what becomes of it. The target's overrides
// replace its fates for some machines.
func (t Target) notes(job *Job, asked map[string][]string) []Note {
	special := map[string]map[Fate][]string{}
	if t.Overrides != nil {
		for _, m := range job.Fleet.Machines {
			for _, fate := range t.Overrides(job, m) {
				at := slices.Index(asked[fate.Field], m.Name)
				if at < 0 {
					continue
				}
				asked[fate.Field] = slices.Delete(slices.Clone(asked[fate.Field]), at, at+1)
				if special[fate.Field] == nil {
					special[fate.Field] = map[Fate][]string{}
				}
				special[fate.Field][fate] = append(special[fate.Field][fate], m.Name)
			}
		}
	}
	var notes []Note
	for _, fate := range t.Fates() {
		if where := asked[fate.Field]; len(where) > 0 && fate.Outcome != Carried {
			notes = append(notes, Note{fate, where})
		}
		var others []Note
		for fate, where := range special[fate.Field] {
			if fate.Outcome != Carried {
				others = append(others, Note{fate, where})
			}
		}
		slices.SortFunc(others, func(a, b Note) int { return strings.Compare(a.How, b.How) })
		notes = append(notes, others...)
	}
	return notes
}

// noteUsed notes the nouns of a list that are used.
func noteUsed[T any](note func(noun any, owner string), nouns []*T, used map[string]bool, name func(*T) string) {
	for _, noun := range nouns {
		if used[name(noun)] {
			note(noun, name(noun))
		}
	}
}

// Fields returns every field that a definition can set, as "noun.key".
func Fields() []string {
	var fields []string
	seen := map[reflect.Type]bool{}
	var walk func(reflect.Type)
	walk = func(t reflect.Type) {
		for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct || t.PkgPath() != reflect.TypeFor[fleet.Fleet]().PkgPath() || seen[t] {
			return
		}
		seen[t] = true
		for i := range t.NumField() {
			field := t.Field(i)
			if key := field.Tag.Get("key"); key != "" && field.Tag.Get("scope") == "" && !isGroup(field.Type) {
				fields = append(fields, nounName(t)+"."+key)
			}
			if field.IsExported() {
				walk(field.Type)
			}
		}
	}
	walk(reflect.TypeFor[fleet.Fleet]())
	return fields
}

// isGroup reports whether a field only holds nouns, whose own fields have fates.
func isGroup(t reflect.Type) bool {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	if _, isNoun := reflect.New(t).Interface().(interface{ OriginOf(string) fleet.Origin }); !isNoun {
		return false
	}
	for i := range t.NumField() {
		if t.Field(i).Tag.Get("key") != "" {
			return true
		}
	}
	return false
}

// nounName returns a type's name in the form of the language: "first_boot" for
// FirstBoot and "nic" for NIC.
func nounName(t reflect.Type) string {
	var name strings.Builder
	for i, char := range t.Name() {
		upper := char >= 'A' && char <= 'Z'
		if upper && i > 0 && t.Name()[i-1] >= 'a' && t.Name()[i-1] <= 'z' {
			name.WriteByte('_')
		}
		name.WriteString(strings.ToLower(string(char)))
	}
	return name.String()
}

// visitAsked visits the fields that have a value other than a default, in a noun and
// in the nouns within it that belong to the same owner.
func visitAsked(noun reflect.Value, owner string, visit func(field, owner string)) {
	t := noun.Type()
	origins := noun.Addr().Interface().(interface{ OriginOf(string) fleet.Origin })
	for i := range t.NumField() {
		key := t.Field(i).Tag.Get("key")
		value := noun.Field(i)
		if key == "" || t.Field(i).Tag.Get("scope") != "" || value.IsZero() {
			continue
		}
		if !isGroup(t.Field(i).Type) {
			if !origins.OriginOf(key).IsDefault() {
				visit(nounName(t)+"."+key, owner)
			}
			continue
		}
		if t == reflect.TypeFor[fleet.Fleet]() {
			continue // its nouns have owners of their own
		}
		switch value.Kind() {
		case reflect.Slice:
			for j := range value.Len() {
				visitAsked(value.Index(j).Elem(), owner, visit)
			}
		case reflect.Pointer:
			visitAsked(value.Elem(), owner, visit)
		default:
			visitAsked(value, owner, visit)
		}
	}
}

// Validate returns an error if the fates of a target don't cover every field
// exactly once.
func (t Target) Validate() error {
	var faults []string
	count := map[string]int{}
	for _, fate := range t.Fates() {
		count[fate.Field]++
		if fate.Outcome != Carried && fate.How == "" {
			faults = append(faults, fate.Field+" is "+fate.Outcome.String()+" without saying how or why")
		}
	}
	for _, field := range Fields() {
		if count[field] != 1 {
			faults = append(faults, fmt.Sprintf("%s has %d fates", field, count[field]))
		}
		delete(count, field)
	}
	for field := range count {
		faults = append(faults, field+" is not a field of a definition")
	}
	if len(faults) == 0 {
		return nil
	}
	slices.Sort(faults)
	return fmt.Errorf("target %s: %s", t.Name, strings.Join(faults, "; "))
}
