package source

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
)

// contentFields are the keys text and file, which mean the same wherever
// something is typed in or taken from a file. A secret text is never repeated.
func contentFields[T any](secret bool, textExample, fileExample string, at func(*T) *fleet.Content) []field[T] {
	return []field[T]{
		{key: "text", doc: "The content, typed in.", example: textExample, kind: contentText(secret, at)},
		{key: "file", doc: "A file beside the definition that holds the content.", example: fileExample, kind: contentFile(at)},
	}
}

func contentText[T any](secret bool, at func(*T) *fleet.Content) kind[T] {
	return kind[T]{name: "text", schema: textSchema, rows: contentRows("text", at, false), read: func(r *reader, top layer, into *T) bool {
		if secret && top.node.Kind == yaml.ScalarNode && top.node.Tag != "!!str" && !isNull(top.node) {
			r.secretFault(ruleWrongType, top, r.here()+" takes text, but this is another kind of value", "put it in quotes")
			return false
		}
		top, ok := r.text(top)
		if !ok {
			return false
		}
		any(into).(origins).ClearOrigin("file")
		content := at(into)
		content.Text, content.File, content.Block = top.node.Value, "", false
		content.TextPlace = top.place()
		switch {
		case top.node.Style&yaml.LiteralStyle != 0:
			content.Block = true
			content.TextPlace.Line++
			content.TextPlace.Column = int32(top.document.blockIndent(top.node.Line, top.node.Value) + 1)
		case top.node.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0:
			content.TextPlace.Column++
		}
		return true
	}}
}

func contentFile[T any](at func(*T) *fleet.Content) kind[T] {
	return kind[T]{name: "path", schema: textSchema, rows: contentRows("file", at, true), read: func(r *reader, l layer, into *T) bool {
		top, ok := r.text(l)
		if !ok {
			return false
		}
		name, data, ok := r.contentOf(top)
		if !ok {
			return false
		}
		any(into).(origins).ClearOrigin("text")
		content := at(into)
		content.Text, content.File, content.Block = data, name, true
		content.TextPlace = fleet.Place{File: name, Line: 1, Column: 1}
		return true
	}}
}

// contentRows shows whichever of text and file was used: how much there is, not
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

// withContent gives a table the two rules of content: not both of text and file
// in one layer, and one of them in the end.
func withContent[T any, P noun[T]](t *table[T, P]) *table[T, P] {
	t.each = func(r *reader, _ P, l layer) {
		if hasKey(l.node, "text") && hasKey(l.node, "file") {
			r.fault(ruleBothContents, l, r.here()+" has both text and file", "keep one of the two")
		}
	}
	t.finish = func(r *reader, of P) {
		if !of.Knows("text") && !of.Knows("file") {
			r.faultAt(ruleMissingKey, of.PlaceOf(fleet.Itself), r.here()+" has no content",
				"add `text:` with the content, or `file:` with the path of a file beside the definition")
		}
	}
	return t
}

func hasKey(node *yaml.Node, key string) bool {
	for i := 0; i+1 < len(node.Content); i += 2 {
		if node.Content[i].Value == key {
			return true
		}
	}
	return false
}

// contentOf reads the file that a layer names, once however often it is named.
func (r *reader) contentOf(l layer) (name, data string, ok bool) {
	named := l.node.Value
	switch {
	case named == "" || strings.ContainsRune(named, 0):
		r.fault(ruleBadValue, l, r.here()+" is not a path", "write the path of a file, relative to the definition")
		return "", "", false
	case path.IsAbs(named) && !r.options.AllowOutside:
		r.fault(rulePathOutside, l, r.here()+" is the absolute path "+quoted(named), "move the file below the definition's folder and write its relative path, or give --allow-outside")
		return "", "", false
	}
	name = path.Join(l.document.folder, named)
	if path.IsAbs(named) {
		name = named
	}
	inside := path.Clean(named)
	if (inside == ".." || strings.HasPrefix(inside, "../")) && !r.options.AllowOutside {
		r.fault(rulePathOutside, l, r.here()+" is "+quoted(named)+", which leaves the definition's folder", "move the file below that folder, or give --allow-outside")
		return "", "", false
	}
	read, known := r.contents[name]
	if !known {
		read = r.readContent(l.document.folder, inside, name)
		r.contents[name] = read
	}
	if read.err != nil {
		r.fault(ruleFileUnreadable, l, read.err.Error(), read.remedy)
		return "", "", false
	}
	return name, read.data, true
}

// contentRead is the outcome of reading one file.
type contentRead struct {
	data   string
	err    error
	remedy string
}

func (r *reader) readContent(folder, inside, name string) contentRead {
	file, err := r.open(folder, inside, name)
	if err == nil {
		defer file.Close()
		var data []byte
		info, statErr := file.Stat()
		switch {
		case statErr != nil:
			err = statErr
		case info.IsDir():
			return contentRead{err: fmt.Errorf("%s is a folder", quoted(name)), remedy: "name a file"}
		case !info.Mode().IsRegular():
			return contentRead{err: fmt.Errorf("%s is not a regular file", quoted(name)), remedy: "name a regular file"}
		default:
			data, err = io.ReadAll(io.LimitReader(file, MaxContent+1))
		}
		if err == nil && len(data) > MaxContent {
			return contentRead{err: fmt.Errorf("%s has more than the %v that are read", quoted(name), fleet.Bytes(MaxContent)),
				remedy: "first-boot data is small on every platform; let a script fetch large files"}
		}
		if err == nil {
			return contentRead{data: string(data)}
		}
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return contentRead{err: fmt.Errorf("there is no file %s", quoted(name)), remedy: "check the path; it is relative to the folder of the definition"}
	case errors.Is(err, fs.ErrPermission):
		return contentRead{err: fmt.Errorf("%s may not be read by this account", quoted(name)), remedy: "change its mode or owner"}
	default:
		return contentRead{err: fmt.Errorf("%s cannot be read: %w", quoted(name), reason(err)), remedy: "check that the path is right and does not leave the folder by a link, or give --allow-outside"}
	}
}

// reason strips the path that the file system adds: the message has it already.
func reason(err error) error {
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		return pathError.Err
	}
	return err
}

// open confines the file to the definition's folder, links included, unless
// files outside are allowed.
func (r *reader) open(folder, inside, name string) (fs.File, error) {
	if r.options.AllowOutside {
		return r.files.Open(name)
	}
	sub, known := r.folders[folder]
	if !known {
		var err error
		if own, has := r.files.(fs.SubFS); has {
			// fs.Sub would refuse the absolute and upward paths that people type.
			sub, err = own.Sub(folder)
		} else {
			sub, err = fs.Sub(r.files, folder)
		}
		if err != nil {
			return nil, err
		}
		r.folders[folder] = sub
	}
	return sub.Open(inside)
}
