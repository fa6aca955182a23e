package golden

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
)

// Document is a JSON document or a part of one.
type Document struct{ value any }

// Read reads a document.
func Read(t testing.TB, data []byte) Document {
	t.Helper()
	var d Document
	if err := json.Unmarshal(data, &d.value); err != nil {
		t.Fatal(err)
	}
	return d
}

// At returns what is at a path of keys and numbers, such as "disks/0/name", or nil.
func (d Document) At(path string) any {
	value := d.value
	for _, key := range strings.Split(path, "/") {
		switch of := value.(type) {
		case map[string]any:
			value = of[strings.ReplaceAll(key, "~1", "/")]
		case []any:
			var i int
			if _, err := fmt.Sscan(key, &i); err != nil || i >= len(of) {
				return nil
			}
			value = of[i]
		default:
			return nil
		}
	}
	return value
}

// Wants compares what is at some paths with what is wanted there, as text. nil stands for
// nothing.
func (d Document) Wants(t testing.TB, wanted map[string]any) {
	t.Helper()
	for path, want := range wanted {
		if got := d.At(path); fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("%s is %v, want %v", path, got, want)
		}
	}
}

// Named returns the entry of a list of objects with some type and name.
func (d Document) Named(list, kind, name string) Document {
	entries, _ := d.At(list).([]any)
	for _, entry := range entries {
		of, _ := entry.(map[string]any)
		if (kind == "" || of["type"] == kind) && of["name"] == name {
			return Document{entry}
		}
	}
	return Document{}
}
