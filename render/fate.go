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

// The three outcomes.
const (
	// Carried means that the target says the same thing.
	Carried Outcome = iota
	// Adapted means that the target says it another way.
	Adapted
	// LeftOut means that the target cannot say it.
	LeftOut
)

// String returns "carried", "adapted" or "left out".
func (o Outcome) String() string {
	return [...]string{"carried", "adapted", "left out"}[o]
}

// Fate says what becomes of one field of a definition in a target.
type Fate struct {
	// Field is the noun and its key, such as "port.listen".
	Field   string
	Outcome Outcome
	// How says in which other way, or why not; empty for a carried field.
	How string
}

// Carry lists fields whose fate is to be carried.
func Carry(fields ...string) []Fate {
	fates := make([]Fate, len(fields))
	for i, field := range fields {
		fates[i] = Fate{Field: field}
	}
	return fates
}

// LeaveOut lists fields that a target cannot say, all for the same reason.
func LeaveOut(why string, fields ...string) []Fate {
	fates := make([]Fate, len(fields))
	for i, field := range fields {
		fates[i] = Fate{Field: field, Outcome: LeftOut, How: why}
	}
	return fates
}

// Adapt lists fields that a target says another way, all in the same.
func Adapt(how string, fields ...string) []Fate {
	fates := make([]Fate, len(fields))
	for i, field := range fields {
		fates[i] = Fate{Field: field, Outcome: Adapted, How: how}
	}
	return fates
}

// Merge joins lists of fates; of two for one field the later holds.
func Merge(lists ...[]Fate) []Fate {
	at := map[string]int{}
	var fates []Fate
	for _, list := range lists {
		for _, fate := range list {
			if i, there := at[fate.Field]; there {
				fates[i] = fate
				continue
			}
			at[fate.Field] = len(fates)
			fates = append(fates, fate)
		}
	}
	return fates
}

// Note is a fate that a definition touches: a value that somebody wrote and
// that the target says another way or not at all.
type Note struct {
	Fate
	// Where names the machines or other nouns that wrote it, in order.
	Where []string
}

// Notes returns what a target adapts or leaves out of what the fleet asks for,
// in the order of the target's fates.
func Notes(target Target, f *fleet.Fleet, options Options) []Note {
	machines := options.Machines
	asked := map[string][]string{}
	note := func(noun any, owner string) {
		visitAsked(reflect.ValueOf(noun).Elem(), owner, func(field, owner string) {
			if list := asked[field]; len(list) == 0 || list[len(list)-1] != owner {
				asked[field] = append(list, owner)
			}
		})
	}
	note(f, "")
	used := usedNouns(f, machines)
	for _, system := range f.Systems {
		if used["system "+system.Name] {
			note(system, system.Name)
		}
	}
	for _, secret := range f.Secrets {
		if usesSecret(f, machines, secret.Name) {
			note(secret, secret.Name)
		}
	}
	for _, firewall := range f.Firewalls {
		if used["firewall "+firewall.Name] {
			note(firewall, firewall.Name)
		}
	}
	for _, platform := range f.Platforms {
		if platform.Name == target.Name {
			note(platform, platform.Name)
		}
	}
	for _, image := range f.Images {
		if used["image "+image.Name] {
			note(image, image.Name)
		}
	}
	for _, network := range f.Networks {
		if used["network "+network.Name] {
			note(network, network.Name)
		}
	}
	for _, key := range f.Keys {
		if used["key "+key.Name] {
			note(key, key.Name)
		}
	}
	for _, m := range f.Machines {
		if isChosen(m, machines) {
			note(m, m.Name)
		}
	}
	return target.notes(&Job{Fleet: f, Options: options}, asked)
}

// notes sorts what was asked for by what becomes of it: for most machines what
// the target's fates say, and for some what it overrides.
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
	for _, fate := range t.Fates {
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

// usedNouns are the nouns of a fleet that some machines name, by kind and name.
func usedNouns(f *fleet.Fleet, machines []string) map[string]bool {
	used := map[string]bool{}
	for _, m := range f.Machines {
		if !isChosen(m, machines) {
			continue
		}
		used["image "+m.Image] = true
		if image := f.Image(m.Image); image != nil {
			used["system "+image.OS] = true
		}
		for _, nic := range m.NICs {
			used["network "+nic.Network] = true
		}
		for _, name := range m.Firewall {
			used["firewall "+name] = true
		}
		for _, user := range m.Users {
			for _, name := range user.Keys {
				used["key "+name] = true
			}
		}
	}
	return used
}

func isChosen(m *fleet.Machine, machines []string) bool {
	return len(machines) == 0 || slices.Contains(machines, m.Name)
}

// usesSecret reports whether what is rendered for some machines holds a secret.
func usesSecret(f *fleet.Fleet, machines []string, name string) bool {
	mark := fleet.SecretMark(name)
	for _, m := range f.Machines {
		if !isChosen(m, machines) {
			continue
		}
		used := m.Console.Password == name ||
			slices.ContainsFunc(m.Users, func(u *fleet.User) bool { return u.Password == name }) ||
			slices.ContainsFunc(m.FirstBoot.Files, func(f *fleet.File) bool { return strings.Contains(f.Text, mark) }) ||
			slices.ContainsFunc(m.FirstBoot.Scripts, func(s *fleet.Script) bool { return strings.Contains(s.Text, mark) })
		if used {
			return true
		}
	}
	return false
}

// Fields lists every field that a definition can set, as "noun.key".
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

// isGroup reports whether a field only holds nouns whose own fields have fates.
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

// nounName turns FirstBoot into "first_boot" and NIC into "nic".
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

// visitAsked visits the fields of a noun, and of the nouns below it that belong
// to the same owner, which hold a value that is not a default.
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

// Validate reports a target whose fates do not cover every field exactly once.
func (t Target) Validate() error {
	var faults []string
	count := map[string]int{}
	for _, fate := range t.Fates {
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
		faults = append(faults, field+" is no field of a definition")
	}
	if len(faults) == 0 {
		return nil
	}
	slices.Sort(faults)
	return fmt.Errorf("target %s: %s", t.Name, strings.Join(faults, "; "))
}
