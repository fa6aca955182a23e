package cloudinit

import (
	"fmt"
	"strconv"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/internal/yamltext"
)

// mapping returns a map from alternating keys and values. A nil value leaves its key
// out. A key is a string, and a value is what node takes. A key without a value is a
// mistake of the caller, and panics.
func mapping(pairs ...any) *yaml.Node {
	m := &yaml.Node{Kind: yaml.MappingNode}
	if len(pairs)%2 != 0 {
		panic(fmt.Sprintf("mapping: the key %v has no value", pairs[len(pairs)-1]))
	}
	for i := 0; i < len(pairs); i += 2 {
		if value := node(pairs[i+1]); value != nil {
			m.Content = append(m.Content, node(pairs[i]), value)
		}
	}
	return m
}

// kept is a node that is kept even if it is empty.
type kept struct{ *yaml.Node }

// node returns a node for a text, a number, a boolean, a list of texts, or nodes. It
// returns nil for nil, an empty list and an empty map.
func node(value any) *yaml.Node {
	switch value := value.(type) {
	case nil:
		return nil
	case kept:
		return value.Node
	case *yaml.Node:
		if value == nil || value.Kind != yaml.ScalarNode && len(value.Content) == 0 {
			return nil
		}
		return value
	case string:
		return textNode(value)
	case bool:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: strconv.FormatBool(value)}
	case int:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!int", Value: strconv.Itoa(value)}
	case []string:
		list := &yaml.Node{Kind: yaml.SequenceNode}
		for _, text := range value {
			list.Content = append(list.Content, textNode(text))
		}
		return node(list)
	case []*yaml.Node:
		return node(&yaml.Node{Kind: yaml.SequenceNode, Content: value})
	}
	panic(fmt.Sprintf("no YAML node for a %T", value))
}

// flow writes a short list or map on one line.
func flow(n *yaml.Node) *yaml.Node {
	if n != nil {
		n.Style |= yaml.FlowStyle
	}
	return n
}

// textNode returns a scalar for a text.
func textNode(text string) *yaml.Node { return yamltext.Node(text) }

// encode encodes a document below a heading of comment lines.
func encode(heading string, document *yaml.Node) ([]byte, error) {
	body, err := yaml.Dump(document, yaml.WithIndent(2), yaml.WithLineWidth(-1))
	if err != nil {
		return nil, fmt.Errorf("encoding YAML: %w", err)
	}
	return append([]byte(heading), body...), nil
}
