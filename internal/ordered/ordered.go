// Package ordered provides maps that keep the order of their keys, and writes them as
// JSON or YAML: templates read best in the order of the format's documentation.
package ordered

import (
	"bytes"
	"encoding/json"
	"fmt"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/internal/yamltext"
)

// Map is a map that keeps the order of its keys.
type Map struct {
	keys   []string
	values []any
}

// List is a list of values that [Of] takes.
type List []any

// Of returns a map of alternating keys and values. A key is left out if its value is
// nil or an empty text, list or map; [Keep] keeps it. A key without a value is a
// mistake of the caller, and panics.
func Of(pairs ...any) *Map {
	if len(pairs)%2 != 0 {
		panic(fmt.Sprintf("ordered.Of: the key %v has no value", pairs[len(pairs)-1]))
	}
	m := &Map{}
	for i := 0; i < len(pairs); i += 2 {
		m.Set(pairs[i].(string), pairs[i+1])
	}
	return m
}

// Set adds a key unless its value is empty.
func (m *Map) Set(key string, value any) {
	if isEmpty(value) {
		return
	}
	if k, ok := value.(keep); ok {
		value = k.value
	}
	m.keys = append(m.keys, key)
	m.values = append(m.values, value)
}

// Len returns the number of keys.
func (m *Map) Len() int {
	if m == nil {
		return 0
	}
	return len(m.keys)
}

type keep struct{ value any }

// Keep marks a value that is kept although it is empty.
func Keep(value any) any { return keep{value} }

func isEmpty(value any) bool {
	switch value := value.(type) {
	case nil:
		return true
	case string:
		return value == ""
	case *Map:
		return value.Len() == 0
	case List:
		return len(value) == 0
	case []string:
		return len(value) == 0
	}
	return false
}

// MarshalJSON encodes the map with its keys in order.
func (m *Map) MarshalJSON() ([]byte, error) {
	var out bytes.Buffer
	out.WriteByte('{')
	for i, key := range m.keys {
		if i > 0 {
			out.WriteByte(',')
		}
		for j, part := range []any{key, m.values[i]} {
			if j > 0 {
				out.WriteByte(':')
			}
			encoder := json.NewEncoder(&out)
			encoder.SetEscapeHTML(false)
			if err := encoder.Encode(part); err != nil {
				return nil, err
			}
			out.Truncate(out.Len() - 1) // the line end
		}
	}
	out.WriteByte('}')
	return out.Bytes(), nil
}

// JSON encodes the map as an indented document that ends in a newline.
func (m *Map) JSON() ([]byte, error) {
	flat, err := m.MarshalJSON()
	if err != nil {
		return nil, fmt.Errorf("encoding JSON: %w", err)
	}
	var out bytes.Buffer
	if err := json.Indent(&out, flat, "", "  "); err != nil {
		return nil, fmt.Errorf("encoding JSON: %w", err)
	}
	out.WriteByte('\n')
	return out.Bytes(), nil
}

// Node returns the map as a YAML node.
func (m *Map) Node() *yaml.Node { return node(m) }

func node(value any) *yaml.Node {
	switch value := value.(type) {
	case *Map:
		n := &yaml.Node{Kind: yaml.MappingNode}
		for i, key := range value.keys {
			n.Content = append(n.Content, yamltext.Node(key), node(value.values[i]))
		}
		return n
	case List:
		n := &yaml.Node{Kind: yaml.SequenceNode}
		for _, part := range value {
			n.Content = append(n.Content, node(part))
		}
		return n
	case *yaml.Node:
		return value
	case []string:
		n := &yaml.Node{Kind: yaml.SequenceNode}
		for _, part := range value {
			n.Content = append(n.Content, yamltext.Node(part))
		}
		return n
	case string:
		return yamltext.Node(value)
	case bool:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: fmt.Sprint(value)}
	case int, int64:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!int", Value: fmt.Sprint(value)}
	}
	panic(fmt.Sprintf("no YAML for a %T", value))
}
