package check

import (
	"strings"
	"unicode"
)

// Go has no parser for PowerShell. This one reads only its lexical structure
// (about_Parsing, about_Quoting_Rules): enough to find quotes and brackets that are
// never closed, and the first words of commands.

// powerShell parses a PowerShell script.
type powerShell struct {
	text         []rune
	at           int
	line, column int
	open         []bracket
	script       *script
	// starts reports whether the next word is the name of a command.
	starts bool
	// fed reports whether the current command is at the end of a pipe.
	fed bool
	// continues reports whether words still belong to the last command.
	continues bool
}

type bracket struct {
	char         rune
	line, column int
}

func parsePowerShell(text string) *script {
	p := &powerShell{text: []rune(strings.TrimPrefix(text, "\uFEFF")), line: 1, column: 1, script: &script{shell: true},
		starts: true}
	for p.at < len(p.text) && p.script.fault == "" {
		p.step()
	}
	if p.script.fault == "" && len(p.open) > 0 {
		last := p.open[len(p.open)-1]
		p.fault("the "+string(last.char)+" is never closed", last.line, last.column)
	}
	if p.script.fault != "" {
		p.script.commands = nil
	}
	return p.script
}

func (p *powerShell) fault(why string, line, column int) {
	p.script.fault, p.script.line, p.script.column = why, line, column
}

// next advances by one character.
func (p *powerShell) next() {
	if p.text[p.at] == '\n' {
		p.line, p.column = p.line+1, 0
	}
	p.at++
	p.column++
}

func (p *powerShell) sees(text string) bool {
	return strings.HasPrefix(string(p.text[p.at:min(len(p.text), p.at+len(text))]), text)
}

// skipTo advances past the next occurrence of a text, or reports a fault.
func (p *powerShell) skipTo(end, what string) {
	line, column := p.line, p.column
	for p.at < len(p.text) {
		if p.sees(end) {
			for range []rune(end) {
				p.next()
			}
			return
		}
		p.next()
	}
	p.fault(what+" is never closed", line, column)
}

// opening returns the bracket that a closing one belongs to.
func opening(closing rune) rune {
	switch closing {
	case ')':
		return '('
	case ']':
		return '['
	}
	return '{'
}

func (p *powerShell) step() {
	char := p.text[p.at]
	switch {
	case char == '`':
		p.next()
		if p.at < len(p.text) && p.text[p.at] == '\r' {
			p.next()
		}
		if p.at < len(p.text) {
			p.next() // a line end does not end the command here
		}
	case char == '\n' || char == ';':
		p.next()
		p.starts, p.fed, p.continues = true, false, false
	case unicode.IsSpace(char):
		p.next()
	case p.sees("<#"):
		p.skipTo("#>", "the comment")
	case char == '#':
		for p.at < len(p.text) && p.text[p.at] != '\n' {
			p.next()
		}
	case p.sees("@'") && p.endsLine(2):
		p.skipTo("\n'@", "the here-string")
		p.word("")
	case p.sees("@\"") && p.endsLine(2):
		p.skipTo("\n\"@", "the here-string")
		p.word("")
	case char == '\'':
		p.single()
		p.word("")
	case char == '"':
		p.double()
		p.word("")
	case char == '(' || char == '[' || char == '{':
		p.open = append(p.open, bracket{char, p.line, p.column})
		p.next()
		p.starts, p.fed, p.continues = char != '[', false, false
	case char == ')' || char == ']' || char == '}':
		if len(p.open) == 0 || p.open[len(p.open)-1].char != opening(char) {
			p.fault("the "+string(char)+" closes nothing", p.line, p.column)
			return
		}
		p.open = p.open[:len(p.open)-1]
		p.next()
		p.starts, p.continues = char == '}', char != '}' && p.continues
	case char == '|' || char == '&':
		p.next()
		p.starts, p.fed, p.continues = true, char == '|', false
	case char == '=':
		p.next()
		p.starts = true
	case char == '@' || char == ',':
		p.next()
	default:
		p.bare()
	}
}

// endsLine reports whether a line end follows.
func (p *powerShell) endsLine(after int) bool {
	rest := string(p.text[min(len(p.text), p.at+after):min(len(p.text), p.at+after+2)])
	return strings.HasPrefix(rest, "\n") || strings.HasPrefix(rest, "\r\n")
}

func (p *powerShell) single() {
	line, column := p.line, p.column
	p.next()
	for p.at < len(p.text) {
		if p.text[p.at] != '\'' {
			p.next()
			continue
		}
		p.next()
		if p.at >= len(p.text) || p.text[p.at] != '\'' {
			return
		}
		p.next() // two stand for one
	}
	p.fault("the quote is never closed", line, column)
}

func (p *powerShell) double() {
	line, column := p.line, p.column
	p.next()
	for p.at < len(p.text) && p.script.fault == "" {
		switch {
		case p.text[p.at] == '`' && p.at+1 < len(p.text):
			p.next()
			p.next()
		case p.sees("$("):
			p.expression()
		case p.text[p.at] == '"':
			p.next()
			if p.at >= len(p.text) || p.text[p.at] != '"' {
				return
			}
			p.next()
		default:
			p.next()
		}
	}
	if p.script.fault == "" {
		p.fault("the quote is never closed", line, column)
	}
}

// expression reads $(…) within quotes, which contains commands of its own.
func (p *powerShell) expression() {
	starts, fed, continues, depth := p.starts, p.fed, p.continues, len(p.open)
	p.next()
	p.step()
	for p.at < len(p.text) && p.script.fault == "" && len(p.open) > depth {
		p.step()
	}
	p.starts, p.fed, p.continues = starts, fed, continues
}

// bare reads an unquoted word.
func (p *powerShell) bare() {
	line, column := p.line, p.column
	start := p.at
	for p.at < len(p.text) && !unicode.IsSpace(p.text[p.at]) && !strings.ContainsRune("()[]{}|;&'\",=`", p.text[p.at]) {
		p.next()
	}
	if p.at == start {
		p.next()
		return
	}
	word := string(p.text[start:p.at])
	if !p.starts {
		p.word(word)
		return
	}
	p.starts = false
	if first := p.text[start]; unicode.IsLetter(first) {
		p.script.commands = append(p.script.commands, command{words: []string{strings.ToLower(word)}, line: line,
			column: column, fed: p.fed})
		p.continues = true
	} else {
		p.continues = false
	}
}

// word adds an argument to the current command; "" stands for one that is only
// known when the script runs.
func (p *powerShell) word(word string) {
	if p.starts {
		p.starts, p.continues = false, false
		return
	}
	if p.continues {
		last := &p.script.commands[len(p.script.commands)-1]
		last.words = append(last.words, strings.ToLower(word))
	}
}

// powerShellWaits says why a PowerShell command would wait for an answer.
func powerShellWaits(c command) (why, remedy string) {
	switch name := c.name(); name {
	case "read-host":
		return "Read-Host takes a line from a keyboard that isn't there",
			"write the value into the script, or read it from a file with Get-Content"
	case "get-credential":
		if !c.has("-credential") {
			return "Get-Credential asks for a name and a password",
				"build one with New-Object System.Management.Automation.PSCredential"
		}
	case "pause", "choice", "choice.exe", "out-gridview", "ogv", "show-command":
		return name + " waits for a key press", "remove it"
	case "install-module", "install-script", "install-packageprovider", "update-module":
		if !c.has("-force", "-confirm:$false") {
			return name + " asks whether to trust its source", "add -Force"
		}
	}
	if c.has("-confirm", "-confirm:$true") {
		return c.name() + " -Confirm asks for confirmation", "write -Confirm:$false"
	}
	return "", ""
}
