// Package ordered holds maps that keep the order in which they were put
// together, and writes them as JSON or YAML: templates read best in the order of
// the format's own documentation.
package ordered

import (
	"bytes"
	"encoding/json"
	"fmt"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/internal/yamltext"
)

// Map is a map in order.
type Map struct {
	keys   []string
	values []any
}

// List is a list of whatever [Of] takes.
type List []any

// Of makes a map of keys and values by turns. A value that is nil, an empty text,
// an empty list or an empty map leaves its key out; [Keep] keeps it.
func Of(pairs ...any) *Map {
	m := &Map{}
	for i := 0; i+1 < len(pairs); i += 2 {
		m.Set(pairs[i].(string), pairs[i+1])
	}
	return m
}

// Set adds a key unless its value is empty.
func (m *Map) Set(key string, value any) {
	if isEmpty(value) {
		return
	}
	if k, is := value.(keep); is {
		value = k.value
	}
	m.keys = append(m.keys, key)
	m.values = append(m.values, value)
}

// Len counts the keys.
func (m *Map) Len() int {
	if m == nil {
		return 0
	}
	return len(m.keys)
}

type keep struct{ value any }

// Keep marks a value that stays although it is empty.
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

// MarshalJSON writes the map in its order.
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

// JSON writes the map as an indented document with a line end.
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

// Node turns the map into a YAML node.
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
