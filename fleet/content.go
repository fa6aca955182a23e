package fleet

import "strings"

// Content is text in a definition or in a file beside it.
type Content struct {
	// Text is the content itself, wherever it came from. It may be any bytes. In a
	// filled text, a mark stands for each secret; see [SecretMark].
	Text string
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

// Marks stand for secrets in texts until they are rendered. They consist of
// private-use characters, which other texts have no reason to contain.
const (
	markStart = "\uE0F0secret:"
	markEnd   = "\uE0F1"
)

// SecretMark returns the mark of a secret.
func SecretMark(name string) string { return markStart + name + markEnd }

// HasSecrets reports whether the text has marks of secrets.
func (c *Content) HasSecrets() bool { return strings.Contains(c.Text, markStart) }

// SecretNames returns the names of the secrets whose marks the text has, in order.
func (c *Content) SecretNames() []string {
	if !c.HasSecrets() {
		return nil
	}
	var names []string
	// Reveal visits each mark; nothing is revealed.
	_, _ = c.Reveal(func(name string) (string, error) {
		names = append(names, name)
		return "", nil
	})
	return names
}

// Reveal returns the text with each mark replaced by the value of its secret.
func (c *Content) Reveal(value func(name string) (string, error)) (string, error) {
	if !c.HasSecrets() {
		return c.Text, nil
	}
	var text strings.Builder
	rest := c.Text
	for {
		before, after, found := strings.Cut(rest, markStart)
		name, next, ended := strings.Cut(after, markEnd)
		if !found || !ended {
			text.WriteString(rest)
			return text.String(), nil
		}
		secret, err := value(name)
		if err != nil {
			return "", err
		}
		text.WriteString(before + secret)
		rest = next
	}
}
