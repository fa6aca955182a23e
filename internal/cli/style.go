package cli

import (
	"cmp"
	"io"
	"os"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/fatih/color"
	"github.com/mattn/go-colorable"
	"github.com/rivo/uniseg"
	"golang.org/x/term"

	"stavren.example/stavren/finding"
)

// A style is marked in text by a noncharacter of Unicode (U+FDD0 to U+FDEF), and its end
// by styleEnd. The writer of a stream turns marks into what its terminal understands.
// So text from definitions and files is never taken for a style, and no escape sequence
// in it gets to the terminal.
const (
	firstStyle = '\uFDD0'
	styleEnd   = '\uFDEF'
)

const (
	boldStyle = firstStyle + iota
	dimStyle
	headingStyle
	goodStyle
	badStyle
	warningStyle
	adviceStyle
)

// attributesOf returns what a style looks like. Styles use only the sixteen colours that
// people configure for their terminals.
func attributesOf(style rune) []color.Attribute {
	switch style {
	case boldStyle:
		return []color.Attribute{color.Bold}
	case dimStyle:
		return []color.Attribute{color.Faint}
	case headingStyle:
		return []color.Attribute{color.Bold, color.FgCyan}
	case goodStyle:
		return []color.Attribute{color.FgGreen}
	case badStyle:
		return []color.Attribute{color.Bold, color.FgRed}
	case warningStyle:
		return []color.Attribute{color.Bold, color.FgYellow}
	case adviceStyle:
		return []color.Attribute{color.Bold, color.FgBlue}
	}
	return nil
}

func styled(text string, style rune) string { return string(style) + text + string(styleEnd) }

func bold(text string) string    { return styled(text, boldStyle) }
func dim(text string) string     { return styled(text, dimStyle) }
func heading(text string) string { return styled(text, headingStyle) }
func good(text string) string    { return styled(text, goodStyle) }
func bad(text string) string     { return styled(text, badStyle) }

func severityStyle(severity finding.Severity) string {
	switch severity {
	case finding.Error:
		return styled(severity.String(), badStyle)
	case finding.Warning:
		return styled(severity.String(), warningStyle)
	}
	return styled(severity.String(), adviceStyle)
}

// textWriter writes text for people. Styles are shown only if the stream has colour.
// Every character that could do something to a terminal is replaced by a visible one.
type textWriter struct {
	out       io.Writer
	hasColour bool
	// failed is the first error of writing. Printing functions ignore errors, so the
	// command looks at it in the end.
	failed error
}

func (w *textWriter) Write(text []byte) (int, error) {
	var safe strings.Builder
	for rest := string(text); rest != ""; {
		char, size := utf8.DecodeRuneInString(rest)
		rest = rest[size:]
		attributes := attributesOf(char)
		switch {
		case attributes != nil:
			inside, after, _ := strings.Cut(rest, string(styleEnd))
			inside = strings.Map(harmless, inside)
			if w.hasColour {
				style := color.New(attributes...)
				style.EnableColor()
				inside = style.Sprint(inside)
			}
			safe.WriteString(inside)
			rest = after
		case size == 1 && char == utf8.RuneError:
			safe.WriteRune(replacement)
		default:
			safe.WriteRune(harmless(char))
		}
	}
	if _, err := io.WriteString(w.out, safe.String()); err != nil {
		w.failed = cmp.Or(w.failed, err)
		return 0, err
	}
	return len(text), nil
}

// replacement stands for a character that could do something to a terminal.
const replacement = '·'

// harmless replaces control characters (ECMA-48), those that change the direction of
// text, and marks of styles.
func harmless(char rune) rune {
	if char == '\n' || char == '\t' {
		return char
	}
	if unicode.IsControl(char) || unicode.Is(unicode.Bidi_Control, char) ||
		char == '\u2028' || char == '\u2029' || char >= firstStyle && char <= styleEnd {
		return replacement
	}
	return char
}

// newTextWriter returns the writer of a stream. Colour is for a terminal that shows it.
// In the environment, NO_COLOR removes it everywhere (no-color.org), and CLICOLOR_FORCE
// keeps it everywhere (bixense.com/clicolors).
func newTextWriter(out io.Writer, environment []string) *textWriter {
	variables := map[string]string{}
	for _, variable := range environment {
		name, value, _ := strings.Cut(variable, "=")
		variables[name] = value
	}
	forced := variables["CLICOLOR_FORCE"] != "" && variables["CLICOLOR_FORCE"] != "0"
	file := terminalOf(out)
	shows := forced || file != nil && variables["TERM"] != "dumb"
	if file != nil {
		out = colorable.NewColorable(file)
	}
	return &textWriter{out: out, hasColour: shows && variables["NO_COLOR"] == ""}
}

// terminalOf returns the terminal that a stream writes to, or nil.
func terminalOf(out io.Writer) *os.File {
	if file, isFile := out.(*os.File); isFile && term.IsTerminal(int(file.Fd())) {
		return file
	}
	return nil
}

// lineWidth is the width of text for people, in columns.
const lineWidth = 80

// wrapped breaks a text between words and indents every line.
func wrapped(text string, indent int) string {
	margin := strings.Repeat(" ", indent)
	var out strings.Builder
	for i, paragraph := range strings.Split(text, "\n") {
		if i > 0 {
			out.WriteString("\n")
		}
		out.WriteString(margin)
		column := 0
		for _, word := range strings.Fields(paragraph) {
			width := uniseg.StringWidth(word)
			switch {
			case column == 0:
			case column+1+width > lineWidth-indent:
				out.WriteString("\n" + margin)
				column = 0
			default:
				out.WriteString(" ")
				column++
			}
			out.WriteString(word)
			column += width
		}
	}
	return out.String()
}
