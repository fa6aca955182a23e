package cli

import (
	"io"
	"os"
	"slices"
	"strings"

	"github.com/fatih/color"
	"github.com/mattn/go-colorable"
	"github.com/rivo/uniseg"
	"golang.org/x/term"

	"stavren.example/stavren/finding"
)

// The styles of terminal output. They use only the sixteen colours that people
// configure for their terminals.

func bold(text string) string    { return styled(text, color.Bold) }
func dim(text string) string     { return styled(text, color.Faint) }
func heading(text string) string { return styled(text, color.Bold, color.FgCyan) }
func good(text string) string    { return styled(text, color.FgGreen) }
func bad(text string) string     { return styled(text, color.Bold, color.FgRed) }

func severityStyle(severity finding.Severity) string {
	attribute := color.FgBlue
	switch severity {
	case finding.Error:
		attribute = color.FgRed
	case finding.Warning:
		attribute = color.FgYellow
	}
	return styled(severity.String(), color.Bold, attribute)
}

// styled always adds the style; the stream's writer removes it if need be.
func styled(text string, attributes ...color.Attribute) string {
	style := color.New(attributes...)
	style.EnableColor()
	return style.Sprint(text)
}

// colorWriter passes colour through to a terminal that shows it, and removes it
// elsewhere. NO_COLOR in the environment removes it everywhere (no-color.org).
func colorWriter(out io.Writer, environment []string) io.Writer {
	plain := slices.ContainsFunc(environment, func(variable string) bool {
		value, isSet := strings.CutPrefix(variable, "NO_COLOR=")
		return isSet && value != "" || variable == "TERM=dumb"
	})
	if file := terminalOf(out); file != nil && !plain {
		return colorable.NewColorable(file)
	}
	return colorable.NewNonColorable(out)
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
