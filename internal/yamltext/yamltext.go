// Package yamltext writes texts in YAML so that PyYAML reads them too, which follows
// YAML 1.1: an unquoted yes, 010 or 1:30 isn't text there. A text is unquoted only if
// nothing can take it for anything else, and otherwise in quotes or a literal block.
package yamltext

import (
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// Node returns a scalar for a text.
func Node(text string) *yaml.Node {
	n := &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text, Style: yaml.DoubleQuotedStyle}
	switch {
	case isBare(text) && !isWord(text):
		n.Style = 0
	case strings.Contains(text, "\n") && !strings.ContainsRune(" \t\n\r\f\v", rune(text[0])) && printable(text):
		n.Style = yaml.LiteralStyle
	}
	return n
}

// isBare reports whether a text consists of words of plain characters with single
// spaces between them, and starts with a letter or a slash.
func isBare(text string) bool {
	if text == "" || !isLetter(text[0]) && text[0] != '/' {
		return false
	}
	for i := range len(text) {
		switch c := text[i]; {
		case isLetter(c), c >= '0' && c <= '9', strings.IndexByte("/._+=@-", c) >= 0:
		case c == ' ' && i+1 < len(text) && text[i-1] != ' ':
		default:
			return false
		}
	}
	return true
}

func isLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

// isWord reports whether YAML 1.1 takes an unquoted text for a boolean or null.
func isWord(text string) bool {
	if len(text) > 5 {
		return false
	}
	switch strings.ToLower(text) {
	case "y", "yes", "n", "no", "true", "false", "on", "off", "null":
		return true
	}
	return false
}

// printable reports whether a literal block preserves a text: it has no tabs or
// spaces at line ends, which editors remove, and no character that YAML 1.1 doesn't
// print or takes for a line end.
func printable(text string) bool {
	for _, line := range strings.Split(text, "\n") {
		if strings.HasSuffix(line, " ") || strings.HasSuffix(line, "\t") || strings.HasPrefix(line, "\t") {
			return false
		}
	}
	for _, char := range text {
		switch {
		case char == '\n' || char == '\t':
		case char < ' ', char == 0x7f, char >= 0x80 && char < 0xa0, char == 0x2028, char == 0x2029, char == 0xfeff,
			char == utf8.RuneError, char > 0xffff:
			return false
		}
	}
	return true
}
