package check

import (
	"fmt"
	"slices"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/nearest"
)

// Questions that rules of several themes ask.

// systemOf returns the operating system of a machine's image, if both are known.
func systemOf(f *fleet.Fleet, m *fleet.Machine) (catalog.System, bool) {
	image := f.Image(m.Image)
	if image == nil {
		return catalog.System{}, false
	}
	return catalog.Find(f, image.OS)
}

// isWindows reports whether a machine runs Windows.
func isWindows(f *fleet.Fleet, m *fleet.Machine) bool {
	return catalog.Of(f, m).Family.Name == catalog.Windows
}

// Ports that people log in through.
const (
	sshPort           = 22
	remoteDesktopPort = 3389
)

// hasPair reports whether a list has an entry for a key.
func hasPair(pairs []fleet.Pair, key string) bool {
	return slices.ContainsFunc(pairs, func(pair fleet.Pair) bool { return pair.Key == key })
}

// maxSuggestions is how many names a run looks for among the known ones. Each takes a
// look at all of them.
const maxSuggestions = 200

// suggest returns the remedy for a name that isn't defined in a section.
func (r reporter) suggest(name, section string, known func() []string) string {
	return r.once(section, name, "define it under "+section, func() string {
		known := known()
		if near := nearest.Word(name, known); near != "" {
			return fmt.Sprintf("did you mean %q? If not, define it under %s", near, section)
		}
		return "define it under " + section + "; " + nearest.Remedy(name, known)
	})
}

// once returns the remedy for a name among those of one kind, made once. After many, it
// returns another instead of making more.
func (r reporter) once(kind, name, otherwise string, remedy func() string) string {
	key := suggestion{r.fleet, kind, name}
	if made, ok := r.suggestions[key]; ok {
		return made
	}
	if len(r.suggestions) >= maxSuggestions {
		return otherwise
	}
	made := remedy()
	r.suggestions[key] = made
	return made
}

// suggestion is what a remedy was made for.
type suggestion struct {
	fleet      *fleet.Fleet
	kind, name string
}

// namesOf returns the names of some nouns.
func namesOf[T any](nouns []T, name func(T) string) []string {
	var names []string
	for _, noun := range nouns {
		names = append(names, name(noun))
	}
	return names
}
