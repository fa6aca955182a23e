package language_test

import (
	"reflect"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/language"
)

// TestEveryFieldHasAKey walks the nouns and checks that the tables have every field
// with a key tag, and nothing else.
func TestEveryFieldHasAKey(t *testing.T) {
	listed := map[string]bool{}
	for _, key := range language.Keys() {
		listed[key.Path] = true
	}
	// What the language has in addition to the fields of nouns.
	tagged := map[string]bool{"stavren": true, "use": true, "kits": true, "variants": true}
	walk(reflect.TypeFor[fleet.Fleet](), "", tagged)
	for path := range tagged {
		if !listed[path] {
			t.Errorf("the field with the key %s has no entry in a table of package language; add one to the file "+
				"of its noun", path)
		}
	}
	for path := range listed {
		if !tagged[path] && !isFileOfContent(path, tagged) {
			t.Errorf("the table has the key %s, but no field of package fleet has that tag; add `key:%q`", path,
				last(path))
		}
	}
}

func last(path string) string { return path[strings.LastIndex(path, ".")+1:] }

// isFileOfContent reports whether a key names the file of a text.
func isFileOfContent(path string, tagged map[string]bool) bool {
	prefix, ok := strings.CutSuffix(path, "file")
	return ok && tagged[prefix+"text"]
}

// walk adds the paths of a noun's fields.
func walk(noun reflect.Type, prefix string, paths map[string]bool) {
	for i := range noun.NumField() {
		field := noun.Field(i)
		key := field.Tag.Get("key")
		if key == "" {
			continue
		}
		paths[prefix+key] = true
		part, below := field.Type, prefix+key+"."
		for part.Kind() == reflect.Pointer || part.Kind() == reflect.Slice {
			if part.Kind() == reflect.Slice {
				if _, isNamed := nameOf(part.Elem()); isNamed {
					below = prefix + key + ".NAME."
				}
			}
			part = part.Elem()
		}
		if part.Kind() == reflect.Struct && hasKeys(part) {
			walk(part, below, paths)
		}
	}
}

// nameOf reports whether a noun is found by a name that people choose.
func nameOf(noun reflect.Type) (string, bool) {
	for noun.Kind() == reflect.Pointer {
		noun = noun.Elem()
	}
	if noun.Kind() != reflect.Struct {
		return "", false
	}
	for _, name := range []string{"Name", "Path"} {
		if field, ok := noun.FieldByName(name); ok && field.Tag.Get("key") == "" {
			return name, true
		}
	}
	return "", false
}

func hasKeys(noun reflect.Type) bool {
	for i := range noun.NumField() {
		if noun.Field(i).Tag.Get("key") != "" {
			return true
		}
	}
	return false
}
