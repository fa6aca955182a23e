// Package xmldoc writes XML documents with indentation. Elements keep their order.
package xmldoc

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Element is an element. It has alternating names and values of attributes, and
// either text or further elements.
type Element struct {
	name     string
	attrs    []string
	text     string
	children []*Element
}

// New returns an element. An attribute whose value is empty is left out.
func New(name string, attrs ...string) *Element { return &Element{name: name, attrs: attrs} }

// Text returns an element that contains text.
func Text(name, text string, attrs ...string) *Element {
	return &Element{name: name, text: text, attrs: attrs}
}

// Add appends elements and returns the element itself. It skips nil.
func (e *Element) Add(children ...*Element) *Element {
	for _, child := range children {
		if child != nil {
			e.children = append(e.children, child)
		}
	}
	return e
}

// Encode returns a document with this element as its root, below comments, in which
// "--" can't occur.
func (e *Element) Encode(comments ...string) []byte {
	var out strings.Builder
	out.WriteString("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n")
	for _, comment := range comments {
		// Twice, since the first time leaves a pair of every three.
		apart := strings.ReplaceAll(strings.ReplaceAll(Clean(comment), "--", "- -"), "--", "- -")
		fmt.Fprintf(&out, "<!-- %s -->\n", apart)
	}
	e.write(&out, "")
	return []byte(out.String())
}

func (e *Element) write(out *strings.Builder, indent string) {
	out.WriteString(indent + "<" + e.name)
	for i := 0; i+1 < len(e.attrs); i += 2 {
		if e.attrs[i+1] != "" {
			fmt.Fprintf(out, ` %s="%s"`, e.attrs[i], escape(e.attrs[i+1], true))
		}
	}
	switch {
	case len(e.children) > 0:
		out.WriteString(">\n")
		for _, child := range e.children {
			child.write(out, indent+"  ")
		}
		out.WriteString(indent + "</" + e.name + ">\n")
	case e.text != "":
		out.WriteString(">" + escape(e.text, false) + "</" + e.name + ">\n")
	default:
		out.WriteString("/>\n")
	}
}

// escape writes text so that an XML parser returns the same bytes. Line ends and tabs
// in attributes, and carriage returns anywhere, would otherwise be changed (XML 1.0,
// 2.11 and 3.3.3).
func escape(text string, attribute bool) string {
	var out strings.Builder
	for _, char := range Clean(text) {
		switch {
		case char == '&':
			out.WriteString("&amp;")
		case char == '<':
			out.WriteString("&lt;")
		case char == '>':
			out.WriteString("&gt;")
		case char == '"' && attribute:
			out.WriteString("&quot;")
		case char == '\r' || attribute && (char == '\n' || char == '\t'):
			fmt.Fprintf(&out, "&#%d;", char)
		default:
			out.WriteRune(char)
		}
	}
	return out.String()
}

// Clean replaces what XML 1.0 can't represent (2.2, "Char") with U+FFFD.
func Clean(text string) string {
	if Holds(text) {
		return text
	}
	return strings.Map(func(char rune) rune {
		if !allowed(char) {
			return utf8.RuneError
		}
		return char
	}, text)
}

// Holds reports whether XML can represent a text unchanged.
func Holds(text string) bool {
	if !utf8.ValidString(text) {
		return false
	}
	for _, char := range text {
		if !allowed(char) {
			return false
		}
	}
	return true
}

func allowed(char rune) bool {
	return char == '\t' || char == '\n' || char == '\r' || char >= 0x20 && char <= 0xd7ff || char >= 0xe000 &&
		char <= 0xfffd || char >= 0x10000
}
