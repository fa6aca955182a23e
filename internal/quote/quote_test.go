package quote_test

import (
	"bytes"
	"encoding/json"
	"os/exec"
	"strings"
	"testing"
	"unicode/utf8"

	"mvdan.cc/sh/v3/syntax"

	"stavren.example/stavren/internal/quote"
)

// hostile lists texts that quoting must preserve.
var hostile = []string{
	"", "plain", "two words", "it's", `"double"`, "$(id)", "`id`", "${HOME}", "a\nb", "\t", "\\", "\\'", "!history",
	"~", "*", "-n",
	"a,b", "a=b", "#", ";", "&&", "emoji 🌊", "\x01\x7f", "é", "'''", "%s%n",
}

// readWord reads a quoted word back with the shell parser.
func readWord(t *testing.T, quoted string) string {
	t.Helper()
	file, err := syntax.NewParser(syntax.Variant(syntax.LangPOSIX)).Parse(strings.NewReader("x "+quoted+"\n"), "")
	if err != nil || len(file.Stmts) != 1 || len(file.Stmts[0].Cmd.(*syntax.CallExpr).Args) != 2 {
		t.Fatalf("%q is not one word: %v", quoted, err)
	}
	var text strings.Builder
	escaped := false
	for _, part := range file.Stmts[0].Cmd.(*syntax.CallExpr).Args[1].Parts {
		switch part := part.(type) {
		case *syntax.SglQuoted:
			text.WriteString(part.Value)
		case *syntax.Lit:
			for _, char := range part.Value {
				if char == '\\' && !escaped {
					escaped = true
					continue
				}
				escaped = false
				text.WriteRune(char)
			}
		default:
			t.Fatalf("%q holds a %T", quoted, part)
		}
	}
	return text.String()
}

func TestShellAgainstParser(t *testing.T) {
	for _, text := range hostile {
		if got := readWord(t, quote.Shell(text)); got != text {
			t.Errorf("%q comes back as %q", text, got)
		}
	}
}

func TestShellAgainstSh(t *testing.T) {
	sh, err := exec.LookPath("sh")
	if err != nil {
		t.Skip("there is no sh here")
	}
	for _, text := range hostile {
		out, err := exec.Command(sh, "-c", "printf %s "+quote.Shell(text)).Output()
		if err != nil || string(out) != text {
			t.Errorf("%q comes back as %q, %v", text, out, err)
		}
	}
}

func FuzzShell(f *testing.F) {
	for _, text := range hostile {
		f.Add(text)
	}
	sh, err := exec.LookPath("sh")
	if err != nil {
		f.Skip("there is no sh here")
	}
	f.Fuzz(func(t *testing.T, text string) {
		if strings.ContainsRune(text, 0) {
			return
		}
		out, err := exec.Command(sh, "-c", "printf %s "+quote.Shell(text)).Output()
		if err != nil || !bytes.Equal(out, []byte(text)) {
			t.Errorf("%q comes back as %q, %v", text, out, err)
		}
	})
}

func TestComment(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"", ""},
		{"tides", "# tides\n"},
		{"a\nrm -rf /\r\nb", "# a\n# rm -rf /\n# b\n"},
		{"a\x1b[2Jb\x00", "# a [2Jb\n"},
		{"a\u2028b", "# a b\n"},
	} {
		t.Run(c.text, func(t *testing.T) {
			if got := quote.Comment("#", c.text); got != c.want {
				t.Errorf("%q becomes %q, want %q", c.text, got, c.want)
			}
		})
	}
}

func TestQEMU(t *testing.T) {
	if got := quote.QEMU("a,b=c"); got != "a,,b=c" {
		t.Errorf("got %q", got)
	}
}

// FuzzJSON checks that a JSON reader gives texts back, and that no character is
// escaped only for browsers.
func FuzzJSON(f *testing.F) {
	for _, text := range hostile {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if !utf8.ValidString(text) {
			return
		}
		var got string
		if err := json.Unmarshal([]byte(quote.JSON(text)), &got); err != nil || got != text {
			t.Errorf("%q comes back as %q, %v", text, got, err)
		}
	})
}

func TestPowerShell(t *testing.T) {
	for text, want := range map[string]string{
		"tide": "'tide'", "it's": "'it''s'", "$x `n \"": "'$x `n \"'", "\u2019": "'\u2019\u2019'", "": "''",
	} {
		t.Run(text, func(t *testing.T) {
			if got := quote.PowerShell(text); got != want {
				t.Errorf("%q becomes %s, want %s", text, got, want)
			}
		})
	}
}

func TestBhyve(t *testing.T) {
	if got := quote.Bhyve("100%(name)"); got != "100%%(name)" {
		t.Errorf("got %q", got)
	}
}
