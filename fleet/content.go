package fleet

import (
	"fmt"
	"strings"
)

// Content is text in a definition or in a file beside it.
type Content struct {
	// Text is the content itself, wherever it came from. It may be any bytes.
	Text string
	// Secrets are the places of Text where secrets belong, in order.
	Secrets []SecretPlace
	// File is the path that Text was read from, or empty if it was typed in.
	File string
	// TextPlace is the place of the first byte of Text. Block reports that line N of
	// Text is N-1 lines below it, at the same column, as in a file or a YAML literal
	// block. Otherwise, only TextPlace itself is known.
	TextPlace Place
	Block     bool
	// Filled reports that Text is the result of filling, and Unfilled is the text
	// before that.
	Filled   bool
	Unfilled string
}

// PlaceAt returns the place of a line and column of the text, both counted from 1, as
// precisely as it is known.
func (c *Content) PlaceAt(line, column int) Place {
	place := c.TextPlace
	if !c.Block || !place.IsValid() {
		return place
	}
	place.Line += int32(line - 1)
	place.Column += int32(column - 1)
	return place
}

// SecretPlace is where a secret belongs in a text: in place of the bytes from Start up
// to End, which only stand for it.
type SecretPlace struct {
	Name       string
	Start, End int
}

// AppendSecret adds a secret at the end of the text. A mark of private-use characters
// stands for it until it is rendered. A text that merely holds such a mark has no
// secret: only Secrets says where they are.
func (c *Content) AppendSecret(name string) {
	start := len(c.Text)
	c.Text += "\uE0F0secret:" + name + "\uE0F1"
	c.Secrets = append(c.Secrets, SecretPlace{name, start, len(c.Text)})
}

// HasSecrets reports whether secrets belong in the text.
func (c *Content) HasSecrets() bool { return len(c.Secrets) > 0 }

// SecretNames returns the names of the secrets that belong in the text, in order.
func (c *Content) SecretNames() []string {
	var names []string
	for _, place := range c.Secrets {
		names = append(names, place.Name)
	}
	return names
}

// Reveal returns the text with the values of its secrets. It fails if a value is
// missing, or if the places of the secrets aren't places of the text.
func (c *Content) Reveal(value func(name string) (string, error)) (string, error) {
	if !c.HasSecrets() {
		return c.Text, nil
	}
	var text strings.Builder
	at := 0
	for _, place := range c.Secrets {
		if place.Start < at || place.End < place.Start || place.End > len(c.Text) {
			return "", fmt.Errorf("the place of the secret %q, bytes %d to %d, is not in the text",
				place.Name, place.Start, place.End)
		}
		secret, err := value(place.Name)
		if err != nil {
			return "", err
		}
		text.WriteString(c.Text[at:place.Start])
		text.WriteString(secret)
		at = place.End
	}
	text.WriteString(c.Text[at:])
	return text.String(), nil
}
