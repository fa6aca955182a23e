package cli

import (
	"bytes"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/rivo/uniseg"

	"stavren.example/stavren/fleet"
)

// sourceLines reads the lines of findings.
type sourceLines struct {
	session *session
	files   map[string][][]byte
	// last is the place that was looked for last, and where it is in its line. A file
	// may be one long line with many findings, in the order of their columns.
	last   fleet.Place
	offset int
}

// maxSource bounds the files whose lines are shown, in bytes. No definition is larger.
const maxSource = 16 << 20

// maxExcerpt is how much of a long line is shown, in characters.
const maxExcerpt = 110

// excerpt returns the line of a place in a form for terminals, and the number of
// columns before the caret.
func (l *sourceLines) excerpt(place fleet.Place) (text string, at int, ok bool) {
	if !place.IsValid() {
		return "", 0, false
	}
	lines := l.lines(place.File)
	if int(place.Line) > len(lines) {
		return "", 0, false
	}
	line := bytes.TrimRight(lines[place.Line-1], "\r")
	caret := l.offsetOf(line, place)
	start := 0
	if place.Column > maxExcerpt*2/3 {
		start = caret
		for range maxExcerpt / 2 {
			_, size := utf8.DecodeLastRune(line[:start])
			start -= size
		}
	}
	end := caret
	for count := utf8.RuneCount(line[start:caret]); end < len(line) && count < maxExcerpt; count++ {
		_, size := utf8.DecodeRune(line[end:])
		end += size
	}
	before, after := visible([]rune(string(line[start:caret]))), visible([]rune(string(line[caret:end])))
	if start > 0 {
		before = "…" + before
	}
	if end < len(line) {
		after += "…"
	}
	return before + after, uniseg.StringWidth(before), true
}

// lines returns the lines of a file, or nil if it can't be read.
func (l *sourceLines) lines(name string) [][]byte {
	lines, known := l.files[name]
	if known {
		return lines
	}
	if file, err := l.session.files.Open(name); err == nil {
		defer file.Close()
		if data, err := io.ReadAll(io.LimitReader(file, maxSource)); err == nil {
			lines = bytes.Split(data, []byte("\n"))
		}
	}
	l.files[name] = lines
	return lines
}

// offsetOf returns the offset of a place in its line, or of the line's end.
func (l *sourceLines) offsetOf(line []byte, place fleet.Place) int {
	column, offset := int32(1), 0
	if l.last.File == place.File && l.last.Line == place.Line && l.last.Column <= place.Column {
		column, offset = l.last.Column, l.offset
	}
	for ; column < place.Column && offset < len(line); column++ {
		_, size := utf8.DecodeRune(line[offset:])
		offset += size
	}
	l.last, l.offset = place, offset
	return offset
}

// visible replaces characters that would move the cursor.
func visible(runes []rune) string {
	return strings.Map(func(char rune) rune {
		if char == '\t' {
			return ' '
		}
		return harmless(char)
	}, strings.ReplaceAll(string(runes), "\n", string(replacement)))
}
