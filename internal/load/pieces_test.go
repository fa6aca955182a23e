package load

import (
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/benchfleet"
	"stavren.example/stavren/internal/document"
	"stavren.example/stavren/internal/language"
)

// samePieces checks that reading machine by machine gives the same as reading whole:
// every value with its place, or every fault.
func samePieces(t *testing.T, data []byte) {
	t.Helper()
	const name = "test.stavren.yaml"
	whole, wholeError := parseWhole(t.Context(), beside, name, data, Options{})
	pieces, piecesError := parsePieces(t.Context(), beside, name, data, Options{}, 1)
	if !reflect.DeepEqual(wholeError, piecesError) {
		t.Fatalf("whole: %+v\nin pieces: %+v\nof %.2000q", Faults(wholeError), Faults(piecesError), data)
	}
	if wholeError != nil {
		return
	}
	for i, m := range whole.Machines {
		if got, want := language.Sheet(pieces.Machines[i]), language.Sheet(m); !reflect.DeepEqual(got, want) {
			t.Fatalf("machine %s\nwhole: %v\nin pieces: %v\nof %q", m.Name, want, got, data)
		}
	}
}

func TestPieces(t *testing.T) {
	files, _ := filepath.Glob("testdata/faults/*.yaml")
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		samePieces(t, data)
	}
	const head = "stavren: 1\nfleet: x\nimages: {i: {os: debian-12}}\n"
	for name, text := range map[string]string{
		"kits after machines": "machines:\n  a: {kits: [k]}\n  b:\n    kits: [k]\nkits:\n  k: {image: i}\n",
		"comments between":    "machines:\n# one\n  a: {image: i} # here\n\n  # two\n  b:\n    image: i\n",
		"two spaces more":     "machines:\n      a: {image: i}\n      b: {image: i}\n",
		"Windows line ends":   "machines:\r\n  a: {image: i}\r\n  b: {image: i}\r\nabout: x\r\n",
		"a block that looks like keys": "machines:\n  a:\n    image: i\n    first_boot:\n      files:\n" +
			"        /a:\n          text: |\n            machines:\n              b: c\n  b: {image: i}\n",
		"a quoted text over a section": "about: \"text\nmachines:\n  a: {image: i}\n\"\n",
		"a quoted text in a machine":   "machines:\n  a: {image: i, about: \"x\n  b: {image: i}\"}\n  c: {image: i}\n",
		"a name twice":                 "machines:\n  a: {image: i}\n  a: {image: i}\n",
		"a section twice":              "machines:\n  a: {image: i}\nmachines:\n  b: {image: i}\n",
		"a name that is no text":       "machines:\n  1: {image: i}\n  b: {image: i}\n",
		"a name that is a number":      "machines:\n  0: x\nvariants:\n  v: {machines: {A}}\n",
		"a name that is a truth": "machines:\n  true: {image: i}\n  yes: {image: i}\nvariants:\n" +
			"  v: {machines: {yea: {}}}\n",
		"a name that is too long":    "machines:\n  " + strings.Repeat("a", 70) + ": {image: i}\n",
		"an alias over two machines": "machines:\n  a: &a {image: i}\n  b: *a\n",
		"a list":                     "machines:\n  - a\n",
		"a second document":          "machines:\n  a: {image: i}\n---\nb: c\n",
		"what is not YAML":           "machines:\n  a: {image: i}\n  b: {image: [}\n  c: {image: i}\n",
		"a key further left":         "machines:\n    a: {image: i}\n  b: {image: i}\n",
		"another line end":           "machines:\n  a: {image: i, about: \"x\ry\"}\n  b: {image: [}\n",
		"a line end of Unicode":      "machines:\n  a: {image: i, about: \"x\u2028y\"}\n  b: {imag: i}\n",
		"nothing below":              "machines:\nabout: x\n",
		"a variant of what is not":   "machines:\n  a: {image: i}\nvariants:\n  v: {machines: {b: {image: i}}}\n",
	} {
		t.Run(name, func(t *testing.T) { samePieces(t, []byte(head+text)) })
	}
	samePieces(t, []byte("!tide\nmachines:\n  a: {image: \"\n"))
	samePieces(t, benchfleet.Definition(40))
}

// TestPiecesAreUsed checks that a large definition in block style is parsed in pieces,
// and that places are those of the whole file.
func TestPiecesAreUsed(t *testing.T) {
	data := benchfleet.Definition(2000)
	d := document.ParseInPieces(t.Context(), "benchfleet.stavren.yaml", data, document.PieceSize)
	if d == nil || len(d.MachineNames()) != 2000 {
		t.Fatal("it is not parsed in pieces")
	}
	f, err := Parse(t.Context(), beside, "benchfleet.stavren.yaml", data, Options{})
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(string(data), "\n")
	for _, m := range f.Machines {
		if at := m.PlaceOf(fleet.Itself); lines[at.Line-1] != "  "+m.Name+":" || at.Column != 3 {
			t.Fatalf("%s has the place %v", m.Name, at)
		}
	}
}
