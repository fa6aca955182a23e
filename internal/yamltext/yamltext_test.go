package yamltext

import (
	"testing"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// TestStyles checks which texts need no quotes: only those that every reader of YAML
// 1.1 or 1.2 reads as text.
func TestStyles(t *testing.T) {
	for text, want := range map[string]yaml.Style{
		"almanac": 0, "/srv/almanac": 0, "Mira Holm": 0, "a=b": 0, "t3.small": 0,
		"": yaml.DoubleQuotedStyle, "yes": yaml.DoubleQuotedStyle, "No": yaml.DoubleQuotedStyle,
		"y": yaml.DoubleQuotedStyle, "null": yaml.DoubleQuotedStyle,
		"10:30": yaml.DoubleQuotedStyle, "0755": yaml.DoubleQuotedStyle, "a: b": yaml.DoubleQuotedStyle,
		"a #b": yaml.DoubleQuotedStyle, "- a": yaml.DoubleQuotedStyle,
		"a  b": yaml.DoubleQuotedStyle, "a ": yaml.DoubleQuotedStyle, " a": yaml.DoubleQuotedStyle,
		"ø": yaml.DoubleQuotedStyle, "=": yaml.DoubleQuotedStyle, "~": yaml.DoubleQuotedStyle,
		"a\nb\n": yaml.LiteralStyle, "a\n\n": yaml.LiteralStyle, " a\n": yaml.DoubleQuotedStyle,
		"\na\n": yaml.DoubleQuotedStyle, "a \nb\n": yaml.DoubleQuotedStyle, "a\r\n": yaml.DoubleQuotedStyle,
	} {
		t.Run(text, func(t *testing.T) {
			if got := Node(text).Style; got != want {
				t.Errorf("%q has style %v, want %v", text, got, want)
			}
		})
	}
}

func FuzzNode(f *testing.F) {
	for _, text := range []string{"", "a", "yes", " a\n", "a\nb", "\x85", "🌊\n", "a:\n", "|\n", "---\n", "\t\n"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if !utf8.ValidString(text) {
			return // such a text is written as base64 by those who hold one
		}
		data, err := yaml.Dump(&yaml.Node{Kind: yaml.SequenceNode, Content: []*yaml.Node{Node(text), Node("end")}})
		if err != nil {
			t.Fatal(err)
		}
		var got []any
		if err := yaml.Load(data, &got); err != nil || len(got) != 2 || got[0] != text {
			t.Errorf("%q comes back as %q, %v, from\n%s", text, got, err, data)
		}
	})
}
