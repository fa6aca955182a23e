package document

import (
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// maxFaults is how many faults of a definition are listed.
const maxFaults = 100

// Faults collects what is wrong with the form of a definition. It also knows the
// path from the top of the definition to the value that is being read.
type Faults struct {
	path     []string
	list     []finding.Finding
	seen     map[cause]bool
	unlisted int
}

// cause is what makes two faults the same.
type cause struct {
	rule    string
	place   fleet.Place
	message string
}

// Enter adds a key to the path, and Leave removes it.
func (f *Faults) Enter(key string) { f.path = append(f.path, key) }

// Leave removes the key that Enter added last.
func (f *Faults) Leave() { f.path = f.path[:len(f.path)-1] }

// At returns a function that restores the path, and sets the path to some keys.
func (f *Faults) At(keys ...string) (restore func()) {
	path := f.path
	f.path = keys
	return func() { f.path = path }
}

// joined returns the path in one, with long keys cut off.
func (f *Faults) joined() string {
	keys := make([]string, len(f.path))
	for i, key := range f.path {
		keys[i] = key
		if len(key) > maxKey {
			keys[i] = strings.ToValidUTF8(key[:maxKey], "") + "…"
		}
	}
	return strings.Join(keys, ".")
}

// Key returns the last key of the path, or "".
func (f *Faults) Key() string {
	if len(f.path) == 0 {
		return ""
	}
	return f.path[len(f.path)-1]
}

// Parent returns the key before the last, or "".
func (f *Faults) Parent() string {
	if len(f.path) < 2 {
		return ""
	}
	return f.path[len(f.path)-2]
}

// Here returns the key that is being read, for messages.
func (f *Faults) Here() string {
	if len(f.path) == 0 {
		return "the definition"
	}
	return Quoted(f.Key())
}

// Add reports what is wrong with the value of a layer. The fault that it returns can
// be changed until the next call.
func (f *Faults) Add(rule Rule, l Layer, message, remedy string) *finding.Finding {
	return f.AddAt(rule, l.Place(), message, remedy)
}

// AddAt is like Add, for another place. It keeps a fault once, since many machines
// read the same kit, and lists only the first of many: a file that is wrong on every
// line mostly has one mistake.
func (f *Faults) AddAt(rule Rule, place fleet.Place, message, remedy string) *finding.Finding {
	found := finding.Finding{
		Rule: string(rule), Severity: severity, Message: message, Remedy: remedy,
		Location: finding.Location{Place: place},
	}
	if f.Full() {
		f.unlisted++
		return &found
	}
	found.Path = f.joined()
	same := cause{found.Rule, found.Place, found.Message}
	if f.seen[same] {
		return &found
	}
	if f.seen == nil {
		f.seen = map[cause]bool{}
	}
	f.seen[same] = true
	f.list = append(f.list, found)
	return &f.list[len(f.list)-1]
}

// AddSecret is like Add, for a value that may be a secret: its line isn't shown.
func (f *Faults) AddSecret(rule Rule, l Layer, message, remedy string) {
	f.Add(rule, l, message, remedy).Secret = true
}

// AddRelated is like Add, with another place that is involved.
func (f *Faults) AddRelated(rule Rule, l Layer, message, remedy string, related fleet.Place, note string) {
	f.Add(rule, l, message, remedy).Related = []finding.Related{{Place: related, Note: note}}
}

// Full reports whether enough faults are listed. Code that may meet many of one kind
// asks first, and calls Skip instead.
func (f *Faults) Full() bool { return len(f.list) >= maxFaults }

// Skip counts a fault without listing it.
func (f *Faults) Skip() { f.unlisted++ }

// Any reports whether there are faults.
func (f *Faults) Any() bool { return len(f.list) > 0 }

// Err returns the faults of the definition of that name as [finding.Errors], sorted,
// or nil if there are none.
func (f *Faults) Err(name string) error {
	if !f.Any() {
		return nil
	}
	faults := finding.Sort(slices.Clone(f.list))
	if f.unlisted > 0 {
		faults = append(faults, finding.Finding{
			Rule: string(MoreFaults), Severity: severity, Location: finding.Location{Place: fleet.Place{File: name}},
			Message: fmt.Sprintf("%d more faults are not listed", f.unlisted),
			Remedy:  "fix the first ones and check again; they often have one cause",
		})
	}
	return finding.Errors(faults)
}

// maxKey bounds how much of a key the path of a fault repeats, in bytes. A path of a
// file can be a key.
const maxKey = 200

// maxQuoted bounds how much of a value a message repeats, in characters.
const maxQuoted = 40

// Quoted returns a text for messages: in quotes, with control characters escaped,
// and cut off if it is long.
func Quoted(text string) string {
	count := 0
	for at := range text {
		if count == maxQuoted {
			text = text[:at] + "…"
			break
		}
		count++
	}
	return fmt.Sprintf("%q", text)
}

// IsShort reports whether a message can repeat a text without cutting it off.
func IsShort(text string) bool { return len(text) < maxQuoted }

// Describe says what a node is, in words.
func Describe(node *yaml.Node) string {
	switch node.Kind {
	case yaml.MappingNode:
		return "a map"
	case yaml.SequenceNode:
		return "a list"
	case yaml.ScalarNode:
		switch node.Tag {
		case "!!null":
			return "empty"
		case "!!int", "!!float":
			return "the number " + strings.Trim(Quoted(node.Value), `"`)
		case "!!bool":
			return node.Value + ", a yes/no value"
		case "!!timestamp":
			return "a date"
		default:
			return "the text " + Quoted(node.Value)
		}
	default:
		return "something else"
	}
}
