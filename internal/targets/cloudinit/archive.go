package cloudinit

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"strings"
)

// part is one part of a MIME archive.
type part struct{ name, kind, text string }

// archive packs parts into a MIME multipart message (RFC 2046), the form in which
// cloud-init accepts several documents. No line of a part contains the boundary,
// since every part that could is in base64.
func archive(parts []part) []byte {
	const boundary = "==stavren=="
	var text bytes.Buffer
	fmt.Fprintf(&text, "Content-Type: multipart/mixed; boundary=%q\nMIME-Version: 1.0\n", boundary)
	for _, p := range parts {
		fmt.Fprintf(&text, "\n--%s\nContent-Type: %s; charset=\"utf-8\"\nMIME-Version: 1.0\n", boundary, p.kind)
		fmt.Fprintf(&text, "Content-Disposition: attachment; filename=%q\n", p.name)
		if plainPart(p.text) && !strings.Contains(p.text, boundary) {
			fmt.Fprintf(&text, "Content-Transfer-Encoding: 7bit\n\n%s", p.text)
		} else {
			fmt.Fprintf(&text, "Content-Transfer-Encoding: base64\n\n%s",
				wrap(base64.StdEncoding.EncodeToString([]byte(p.text))))
		}
	}
	fmt.Fprintf(&text, "\n--%s--\n", boundary)
	return text.Bytes()
}

// plainPart reports whether a text can have the transfer encoding 7bit: lines of at
// most 998 ASCII characters (RFC 2045, 2.7), each with an end.
func plainPart(text string) bool {
	if !strings.HasSuffix(text, "\n") || strings.Contains(text, "\r") {
		return false
	}
	for _, line := range strings.Split(text, "\n") {
		if len(line) > 998 || strings.HasPrefix(line, "From ") {
			return false
		}
	}
	for i := range len(text) {
		if text[i] >= 0x7f || text[i] < ' ' && text[i] != '\n' && text[i] != '\t' {
			return false
		}
	}
	return true
}

// wrap breaks base64 into lines of 76 characters, as RFC 2045 requires.
func wrap(text string) string {
	var lines strings.Builder
	for len(text) > 76 {
		lines.WriteString(text[:76] + "\n")
		text = text[76:]
	}
	lines.WriteString(text + "\n")
	return lines.String()
}
