package document

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// firstBadByte finds what no YAML reader accepts, since the YAML package doesn't say
// where it is: bytes that aren't UTF-8, and control characters.
func firstBadByte(data []byte) (line, column int32, fault string) {
	line, column = 1, 1
	for i := 0; i < len(data); {
		c := data[i]
		switch {
		case c == '\n':
			line, column = line+1, 1
			i++
			continue
		case c < utf8.RuneSelf:
			if (c < ' ' && c != '\t' && c != '\r') || c == 0x7f {
				return line, column, fmt.Sprintf("control character U+%04X is not allowed in a definition", c)
			}
			i++
		default:
			char, size := utf8.DecodeRune(data[i:])
			if char == utf8.RuneError && size == 1 {
				return line, column, fmt.Sprintf("byte 0x%02X is not UTF-8", c)
			}
			i += size
		}
		column++
	}
	return 0, 0, ""
}

// secondDocument returns the line of the marker that starts a second document, or 0.
func secondDocument(data []byte) int32 {
	content := false
	for i, line := range strings.Split(string(data), "\n") {
		switch text := strings.TrimRight(line, "\r"); {
		case strings.HasPrefix(text, "---"):
			if content {
				return int32(i + 1)
			}
			content = strings.TrimSpace(text[3:]) != ""
		case strings.TrimSpace(text) != "" && text[0] != '#' && text[0] != '%':
			content = true
		}
	}
	return 0
}
