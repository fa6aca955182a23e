// Package yamltext says how a text is written in YAML that PyYAML reads too,
// which follows YAML 1.1: a bare yes, 010 or 1:30 is no text there. So text
// stands bare only if it cannot be taken for anything else, and in quotes or as
// a literal block otherwise.
package yamltext

import (
	"regexp"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

var (
	bareText = regexp.MustCompile(`^[A-Za-z/][A-Za-z0-9/._+=@-]*( [A-Za-z0-9/._+=@-]+)*$`)
	// yaml11Words are the bare words that YAML 1.1 takes for truths and nothing.
	yaml11Words = regexp.MustCompile(`^(?i:y|yes|n|no|true|false|on|off|null)$`)
	literalText = regexp.MustCompile(`^[^\s].*\n`)
)

// Node makes a scalar of a text.
func Node(text string) *yaml.Node {
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
