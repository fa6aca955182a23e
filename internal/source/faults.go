package source

import (
	"fmt"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// rule is the name of a reading rule; the rules themselves are in rules.go.
type rule string

// fault reports what is wrong with the value of a layer.
func (r *reader) fault(rule rule, l layer, message, remedy string) {
	r.faultAt(rule, l.place(), message, remedy)
}

func (r *reader) faultRelated(rule rule, l layer, message, remedy string, related fleet.Place, note string) {
	r.add(finding.Finding{
		Rule: string(rule), Severity: readingSeverity, Location: finding.Location{Place: l.place(), Path: r.path.String()},
		Message: message, Remedy: remedy, Related: []finding.Related{{Place: related, Note: note}},
	})
}

func (r *reader) faultAt(rule rule, place fleet.Place, message, remedy string) {
	r.add(finding.Finding{
		Rule: string(rule), Severity: readingSeverity, Location: finding.Location{Place: place, Path: r.path.String()},
		Message: message, Remedy: remedy,
	})
}

// secretFault is fault for what may be a secret: its line is not to be shown.
func (r *reader) secretFault(rule rule, l layer, message, remedy string) {
	r.add(finding.Finding{
		Rule: string(rule), Severity: readingSeverity, Location: finding.Location{Place: l.place(), Path: r.path.String()},
		Message: message, Remedy: remedy, Secret: true,
	})
}

// add keeps a fault once, since many machines read the same kit, and only the
// first maxFaults of them: a file that is wrong on every line is told so, not
// listed.
func (r *reader) add(f finding.Finding) {
	if r.full() {
		r.unlisted++
		return
	}
	same := told{f.Rule, f.Place, f.Message}
	if r.told[same] {
		return
	}
	r.told[same] = true
	r.faults = append(r.faults, f)
}

// full reports whether enough faults are listed. Whoever meets many of one kind
// asks first and only counts further ones.
func (r *reader) full() bool { return len(r.faults) >= maxFaults }

// told is what makes two faults the same one.
type told struct {
	rule    string
	place   fleet.Place
	message string
}

// How far a noun is spoilt by a fault in it, so that what follows from that fault
// is not told as well.
const (
	sound     = iota
	inPart    // a value was at fault: rules that look at several do not hold
	shapeless // it was no map at all: nothing is known of it
)

func (r *reader) spoilt(noun any, how int) { r.spoiltNouns[noun] = max(r.spoiltNouns[noun], how) }

func (r *reader) spoiltness(noun any) int {
	if len(r.spoiltNouns) == 0 {
		return sound
	}
	return r.spoiltNouns[noun]
}

// trail is the way from the top of the definition to the value being read.
type trail []string

func (t trail) String() string { return strings.Join(t, ".") }

func (r *reader) enter(key string) { r.path = append(r.path, key) }
func (r *reader) leave()           { r.path = r.path[:len(r.path)-1] }

// here returns the key being read, for messages.
func (r *reader) here() string {
	if len(r.path) == 0 {
		return "the definition"
	}
	return quoted(r.path[len(r.path)-1])
}

// maxQuoted bounds how much of a value a message repeats, in characters.
const maxQuoted = 40

// quoted repeats a value in a message: between quotes, control characters
// escaped, cut where it is long.
func quoted(text string) string {
	if runes := []rune(text); len(runes) > maxQuoted {
		text = string(runes[:maxQuoted]) + "…"
	}
	return fmt.Sprintf("%q", text)
}

func itoa(n int) string { return strconv.Itoa(n) }

// describe names what a node is, in words that YAML's readers would use.
func describe(node *yaml.Node) string {
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
			return "the number " + quoted(node.Value)[1:len(quoted(node.Value))-1]
		case "!!bool":
			return node.Value + ", a yes/no value"
		case "!!timestamp":
			return "a date"
		default:
			return "the text " + quoted(node.Value)
		}
	default:
		return "something else"
	}
}
