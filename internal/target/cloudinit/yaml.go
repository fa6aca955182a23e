package cloudinit

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// The YAML that is written here is read by PyYAML, which follows YAML 1.1: a
// bare yes, 010 or 1:30 is no text there. So text stands bare only if it cannot
// be taken for anything else, and in quotes or as a literal block otherwise.

// mapping makes a map from keys and values by turns, in this order. A nil value
// leaves its key out. A key is a string; a value is a node or what node takes.
func mapping(pairs ...any) *yaml.Node {
	m := &yaml.Node{Kind: yaml.MappingNode}
	for i := 0; i+1 < len(pairs); i += 2 {
		if value := node(pairs[i+1]); value != nil {
			m.Content = append(m.Content, node(pairs[i]), value)
		}
	}
	return m
}

// kept is a node that stays even if it is empty.
type kept struct{ *yaml.Node }

// node makes a node from text, a number, a truth, a list of texts or nodes. It
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

var (
	bareText = regexp.MustCompile(`^[A-Za-z/][A-Za-z0-9/._+=@-]*( [A-Za-z0-9/._+=@-]+)*$`)
	// yaml11Words are the bare words that YAML 1.1 takes for truths and nothing.
	yaml11Words = regexp.MustCompile(`^(?i:y|yes|n|no|true|false|on|off|null)$`)
	literalText = regexp.MustCompile(`^[^\s].*\n`)
)

func textNode(text string) *yaml.Node {
	n := &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text, Style: yaml.DoubleQuotedStyle}
	switch {
	case bareText.MatchString(text) && !yaml11Words.MatchString(text):
		n.Style = 0
	case literalText.MatchString(text) && printable(text):
		n.Style = yaml.LiteralStyle
	}
	return n
}

// printable reports whether a literal block gives a text back as it is: no
// tabs or spaces at line ends, which editors lose, and no character that YAML
// 1.1 does not print or takes for a line end.
func printable(text string) bool {
	for _, line := range strings.Split(text, "\n") {
		if strings.HasSuffix(line, " ") || strings.HasSuffix(line, "\t") || strings.HasPrefix(line, "\t") {
			return false
		}
	}
	for _, char := range text {
		switch {
		case char == '\n' || char == '\t':
		case char < ' ', char == 0x7f, char >= 0x80 && char < 0xa0, char == 0x2028, char == 0x2029, char == 0xfeff, char == utf8.RuneError, char > 0xffff:
			return false
		}
	}
	return true
}

// encode writes a document under a heading of comment lines.
func encode(heading string, document *yaml.Node) ([]byte, error) {
	body, err := yaml.Dump(document, yaml.WithIndent(2), yaml.WithLineWidth(-1))
	if err != nil {
		return nil, fmt.Errorf("encoding YAML: %w", err)
	}
	return append([]byte(heading), body...), nil
}
