package language

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
)

// contentFields returns the keys text and file, for content that is typed in or read
// from a file. No message repeats a secret text.
func contentFields[T any](secret bool, textExample, fileExample string, at func(*T) *fleet.Content) []field[T] {
	return []field[T]{
		{
			key: "text", doc: "The content itself.",
			example: textExample,
			value:   contentText(secret, at),
		},
		{
			key: "file", doc: "A file that has the content, relative to the definition.",
			example: fileExample,
			value:   contentFile(at),
		},
	}
}

func contentText[T any](secret bool, at func(*T) *fleet.Content) value[T] {
	return value[T]{
		name: "text", schema: textSchema, rows: contentRows("text", at, false),
		read: func(r *Reader, l document.Layer, into *T) bool {
			if secret && l.Node.Kind == yaml.ScalarNode && l.Node.Tag != "!!str" && !l.IsNull() {
				r.AddSecret(document.WrongType, l, r.Here()+" must be text, but this is another type of value",
					"put it in quotes")
				return false
			}
			if !r.isText(l) {
				return false
			}
			any(into).(origins).ClearOrigin("file")
			content := at(into)
			content.Text, content.File = l.Node.Value, ""
			content.TextPlace, content.Block = l.TextPlace()
			return true
		},
	}
}

func contentFile[T any](at func(*T) *fleet.Content) value[T] {
	return value[T]{
		name: "path", schema: textSchema, rows: contentRows("file", at, true),
		read: func(r *Reader, l document.Layer, into *T) bool {
			if !r.isText(l) {
				return false
			}
			name, data, ok := r.files.Content(r.Faults, l)
			if !ok {
				return false
			}
			any(into).(origins).ClearOrigin("text")
			content := at(into)
			content.Text, content.File, content.Block = data, name, true
			content.TextPlace = fleet.Place{File: name, Line: 1, Column: 1}
			return true
		},
	}
}

// contentRows shows text or file, whichever was used: how much content there is, not
// the content itself, which may be long.
func contentRows[T any](key string, at func(*T) *fleet.Content, fromFile bool) func(*T, string, func(Row)) {
	return func(of *T, prefix string, add func(Row)) {
		content := at(of)
		if (content.File != "") != fromFile {
			return
		}
		value := fmt.Sprintf("%d bytes", len(content.Text))
		if lines := strings.Count(content.Text, "\n"); lines > 1 {
			value = fmt.Sprintf("%d lines, %s", lines, value)
		}
		if fromFile {
			value = content.File + ", " + value
		}
		add(Row{Path: prefix, Value: value, Origin: any(of).(origins).OriginOf(key)})
	}
}

// withContent adds the two rules of content to a table: not both text and file in one
// layer, and one of them in the end.
func withContent[T any, P noun[T]](t *table[T, P]) *table[T, P] {
	t.each = func(r *Reader, _ P, l document.Layer) {
		if l.Has("text") && l.Has("file") {
			r.Add(document.TextAndFile, l, r.Here()+" has both text and file", "keep one of the two")
		}
	}
	t.finish = func(r *Reader, of P) {
		if !of.Knows("text") && !of.Knows("file") {
			r.AddAt(document.MissingKey, of.PlaceOf(fleet.Itself), r.Here()+" has no content",
				"add `text:` with the content, or `file:` with the path of a file beside the definition")
		}
	}
	return t
}
