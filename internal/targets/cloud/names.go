package cloud

import (
	"crypto/sha256"
	"fmt"
	"regexp"
	"strings"
	"sync"

	"stavren.example/stavren/fleet"
)

// Names are a platform's rules for the names of machines.
type Names struct {
	// Valid reports whether the platform takes a name.
	Valid func(name string) bool
	// Limit is the longest name in characters.
	Limit int
}

// Labels are a platform's rules for what it calls labels, tags or metadata.
type Labels struct {
	// Limit is the most labels of a machine. KeyLimit and ValueLimit are the longest
	// key and value in characters.
	Limit, KeyLimit, ValueLimit int
	ValidKey, ValidValue        func(text string) bool
	// Reserved reports whether the platform or the target sets a key itself. It may be nil.
	Reserved func(key string) bool
	// LowerCase says that the platform takes lower-case labels only.
	LowerCase bool
}

// Pattern returns a function that reports whether a text matches a regular
// expression. The expression is compiled when it is first needed.
func Pattern(expression string) func(text string) bool {
	compiled := sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expression) })
	return func(text string) bool { return compiled().MatchString(text) }
}

// LabelsOf returns a machine's labels as the platform takes them.
func (c *Cloud) LabelsOf(m *fleet.Machine) []fleet.Pair {
	labels := make([]fleet.Pair, 0, len(m.Labels))
	for _, label := range m.Labels {
		if c.Labels.LowerCase {
			label = fleet.Pair{Key: strings.ToLower(label.Key), Value: strings.ToLower(label.Value)}
		}
		labels = append(labels, label)
	}
	return labels
}

// NameOf shortens a name to the platform's limit.
func (c *Cloud) NameOf(name string) string { return Shorten(name, c.Names.Limit) }

// Shorten fits a name into a number of characters. A name that is too long keeps as
// much of its beginning as leaves room for six digits that make it distinct.
func Shorten(name string, limit int) string {
	const suffix = 7 // a hyphen and six digits
	if len(name) <= limit {
		return name
	}
	sum := sha256.Sum256([]byte("name\x00" + name))
	return strings.TrimRight(name[:max(0, limit-suffix)], "-._") + fmt.Sprintf("-%x", sum[:3])
}
