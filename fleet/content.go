package fleet

import "strings"

// Content is text typed into a definition or taken from a file beside it.
type Content struct {
	// Text is the content itself, whatever its source. It may be any bytes. In a
	// filled text each secret stands as its mark, see [SecretMark].
	Text string
	// File is the path that Text was read from, or empty if it was typed in.
	File string
	// TextPlace is where the first byte of Text stands. Block reports that
	// line N of Text stands N-1 lines below it, at the same column, as in a
	// file of its own or a YAML literal block; otherwise only TextPlace itself
	// is known.
	TextPlace Place
	Block     bool
	// Filled reports that Text was made by filling; Unfilled is what it was made
	// from.
	Filled   bool
	Unfilled string
}

// PlaceAt returns where the given line and column of the text stand, both from
// 1, as nearly as is known.
func (c *Content) PlaceAt(line, column int) Place {
	place := c.TextPlace
	if !c.Block || !place.IsValid() {
		return place
	}
	place.Line += int32(line - 1)
	place.Column += int32(column - 1)
	return place
}

// Secrets stand in texts as marks until they are rendered. The marks are made of
// private-use characters, which no other text has reason to hold.
const (
	markStart = "\uE0F0secret:"
	markEnd   = "\uE0F1"
)

// SecretMark is what stands in a text for the secret of that name.
func SecretMark(name string) string { return markStart + name + markEnd }

// HasSecrets reports whether the text holds marks of secrets.
func (c *Content) HasSecrets() bool { return strings.Contains(c.Text, markStart) }

// SecretNames lists the secrets whose marks the text holds, in order.
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

// Reveal returns the text with each mark replaced by what value returns for the
// name of its secret.
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
