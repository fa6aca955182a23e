package xmldoc

import (
	"encoding/xml"
	"strings"
	"testing"
)

// FuzzText checks that an XML parser gives texts and attributes back unchanged, or
// with U+FFFD for characters that XML can't represent.
func FuzzText(f *testing.F) {
	for _, text := range []string{"", "a", "<b>&amp;]]>", "\"'", "\r\n\t x ", "\x01", "\xff", "🌊 é", "--", "---", "-----", "￾"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		data := New("a").Add(Text("b", text, "c", text)).Encode(text)
		var got struct {
			B struct {
				C    string `xml:"c,attr"`
				Text string `xml:",chardata"`
			} `xml:"b"`
		}
		if err := xml.Unmarshal(data, &got); err != nil {
			t.Fatalf("%v\n%s", err, data)
		}
		if want := Clean(text); got.B.C != want || got.B.Text != want {
			t.Errorf("%q comes back as %q and %q", text, got.B.C, got.B.Text)
		}
	})
}

func TestEncode(t *testing.T) {
	root := New("disk", "type", "file", "empty", "").Add(Text("name", "a<b"), nil,
		New("sizes").Add(New("size", "unit", "KiB")))
	want := `<?xml version="1.0" encoding="UTF-8"?>
<!-- a - -> b -->
<disk type="file">
  <name>a&lt;b</name>
  <sizes>
    <size unit="KiB"/>
  </sizes>
</disk>
`
	if got := string(root.Encode("a --> b")); got != want {
		t.Errorf("got\n%s", got)
	}
	if strings.Contains(string(Text("a", "x").Encode()), "\n\n") {
		t.Error("an empty line")
	}
}
