package cloud

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/render"
)

// Rendered is the output of a target for a fleet: files by name, and steps.
type Rendered struct {
	Fleet *fleet.Fleet
	Files map[string][]byte
	Steps []render.Step
}

// Reading is what a machine's part of the output says.
type Reading struct {
	// UserData is the user data as the machine gets it: decoded but, if it was
	// compressed, still compressed.
	UserData []byte
	// Openings lists the incoming connections that are allowed.
	Openings []Opening
	// Labels lists the labels.
	Labels []fleet.Pair
}

// ReadBack reads a machine's part of the output of a target, independently of the
// code that wrote it, so that tests can compare it with the definition.
type ReadBack func(r Rendered, m *fleet.Machine) (Reading, error)

// Document decodes one of the files, which is JSON or YAML.
func (r Rendered) Document(name string) (Document, error) {
	data, ok := r.Files[name]
	if !ok {
		return Document{}, fmt.Errorf("there is no file %s", name)
	}
	var value any
	if err := yaml.Load(data, &value); err != nil {
		return Document{}, fmt.Errorf("%s: %w", name, err)
	}
	return Document{value}, nil
}

// Document is a value of a decoded file: a map, a list or a scalar.
type Document struct{ value any }

// At returns the value at a path of keys and list indexes. It is empty if there is
// none.
func (d Document) At(path ...any) Document {
	for _, step := range path {
		switch step := step.(type) {
		case string:
			m, _ := d.value.(map[string]any)
			d.value = m[step]
		case int:
			list, _ := d.value.([]any)
			if step >= len(list) {
				return Document{}
			}
			d.value = list[step]
		}
	}
	return d
}

// List returns the elements of a list.
func (d Document) List() []Document {
	list, _ := d.value.([]any)
	documents := make([]Document, len(list))
	for i, value := range list {
		documents[i] = Document{value}
	}
	return documents
}

// Map returns the entries of a map.
func (d Document) Map() map[string]Document {
	m, _ := d.value.(map[string]any)
	documents := make(map[string]Document, len(m))
	for key, value := range m {
		documents[key] = Document{value}
	}
	return documents
}

// Text returns a scalar as text, or "" if there is none.
func (d Document) Text() string {
	if d.value == nil {
		return ""
	}
	return fmt.Sprint(d.value)
}

// Number returns a scalar as a number, or 0.
func (d Document) Number() int {
	var number int
	// What isn't a number is 0.
	_, _ = fmt.Sscan(d.Text(), &number)
	return number
}

// Exists reports whether there is a value.
func (d Document) Exists() bool { return d.value != nil }

// ReadProtocol returns the protocol that a platform writes in one of the usual ways.
func ReadProtocol(text string) fleet.Protocol {
	switch strings.ToLower(text) {
	case "tcp", "6":
		return fleet.TCP
	case "udp", "17":
		return fleet.UDP
	case "icmp", "1", "icmpv6", "ipv6-icmp", "58":
		return fleet.ICMP
	}
	return fleet.AnyProtocol
}

// ReadPorts reads "80", "80-90", or anything else for all ports, as 0 to 0.
func ReadPorts(text string) (first, last int) {
	low, high, isRange := strings.Cut(text, "-")
	if !isRange {
		high = low
	}
	if _, err := fmt.Sscan(low, &first); err != nil {
		return 0, 0
	}
	if _, err := fmt.Sscan(high, &last); err != nil {
		return 0, 0
	}
	return first, last
}
