package cli

import (
	"io"
	"os"
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
// elsewhere. In the environment, NO_COLOR removes it everywhere (no-color.org), and
// CLICOLOR_FORCE keeps it everywhere (bixense.com/clicolors).
func colorWriter(out io.Writer, environment []string) io.Writer {
	variables := map[string]string{}
	for _, variable := range environment {
		name, value, _ := strings.Cut(variable, "=")
		variables[name] = value
	}
	forced := variables["CLICOLOR_FORCE"] != "" && variables["CLICOLOR_FORCE"] != "0"
	file := terminalOf(out)
	switch {
	case variables["NO_COLOR"] != "":
	case file != nil && (forced || variables["TERM"] != "dumb"):
		return colorable.NewColorable(file)
	case forced:
		return out
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
