package quote

import (
	"bytes"
	"encoding/json"
)

// JSON quotes a text as a JSON string (RFC 8259). YAML 1.2 and the configuration
// language of FreeBSD's pkg read it too.
func JSON(text string) string {
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	// A string can always be encoded.
	_ = encoder.Encode(text)
	return string(bytes.TrimSuffix(out.Bytes(), []byte("\n")))
}
