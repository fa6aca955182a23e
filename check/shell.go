package check

import (
	"errors"
	"maps"
	"path"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

// script is a first-boot script, parsed once.
type script struct {
	// shell reports whether the script is one that the parser reads.
	shell bool
	// fault is why it does not parse, at line and column, or "".
	fault        string
	line, column int
	commands     []command
}

// command is one simple command that a script runs.
type command struct {
	// words are its name and arguments, wrappers such as sudo removed. A word
	// that is only known when it runs is "".
	words        []string
	line, column int
	// fed reports whether something else than the boot's own input, which is
	// empty, answers it: a pipe, a file or a here-document.
	fed bool
	// environment holds the names of variables that are set for the command
	// alone or were exported before.
	environment map[string]string
	// sudo says that it was to be run by sudo.
	sudo bool
	// guarded says that whether it runs depends on another command.
	guarded bool
}

func (c command) name() string { return c.words[0] }

// has reports whether one of the arguments is one of the given words.
func (c command) has(words ...string) bool {
	for _, argument := range c.words[1:] {
		for _, word := range words {
			if argument == word {
				return true
			}
		}
	}
	return false
}

// hasShort reports whether a group of short options, such as -qy, holds the letter.
func (c command) hasShort(letter string) bool {
	for _, argument := range c.words[1:] {
		if strings.HasPrefix(argument, "-") && !strings.HasPrefix(argument, "--") && strings.Contains(argument, letter) {
			return true
		}
	}
	return false
}

// operands are the arguments that are not options.
func (c command) operands() (operands []string) {
	for _, argument := range c.words[1:] {
		if !strings.HasPrefix(argument, "-") {
			operands = append(operands, argument)
		}
	}
	return operands
}

// script parses a script once, however many machines run it. What runs on
// Windows, or is PowerShell by its file's name, is no shell script.
func (p *pass) script(f *fleet.Fleet, m *fleet.Machine, s *fleet.Script) *script {
	first, _, _ := strings.Cut(s.Text, "\n")
	first = strings.ToLower(first)
	windows := catalog.Of(f, m).Family.Name == catalog.Windows
	if windows && (strings.HasPrefix(first, "@echo") || strings.HasPrefix(first, "rem cmd")) {
		return &script{} // of cmd, which nothing here reads
	}
	parse, key := p.parse, s.Text
	if windows || strings.HasSuffix(s.File, ".ps1") || strings.HasPrefix(first, "#!") && strings.Contains(first, "pwsh") {
		parse, key = parsePowerShell, "PowerShell\x00"+s.Text
	}
	known := p.scripts[key]
	if known == nil {
		if len(p.scripts) >= maxScripts {
			clear(p.scripts)
		}
		known = parse(s.Text)
		p.scripts[key] = known
	}
	return known
}

// dialectOf tells from the first line which shell runs a script; a script
// without an interpreter line is given /bin/sh by every renderer.
func dialectOf(text string) (syntax.LangVariant, bool) {
	line, _, _ := strings.Cut(text, "\n")
	if !strings.HasPrefix(line, "#!") {
		return syntax.LangPOSIX, true
	}
	words := strings.Fields(strings.TrimSuffix(line[2:], "\r"))
	if len(words) > 1 && path.Base(words[0]) == "env" {
		words = words[1:]
		if words[0] == "-S" && len(words) > 1 {
			words = words[1:]
		}
	}
	if len(words) == 0 {
		return 0, false
	}
	switch path.Base(words[0]) {
	case "sh", "dash", "ash":
		return syntax.LangPOSIX, true
	case "bash":
		return syntax.LangBash, true
	case "ksh", "mksh":
		return syntax.LangMirBSDKorn, true
	}
	return 0, false
}

// parser returns the parser of a dialect, which is made once: its buffers are
// larger than most scripts.
func (p *pass) parser(dialect syntax.LangVariant) *syntax.Parser {
	if p.parsers[dialect] == nil {
		p.parsers[dialect] = syntax.NewParser(syntax.Variant(dialect))
	}
	return p.parsers[dialect]
}

func (p *pass) parse(text string) *script {
	dialect, known := dialectOf(text)
	s := &script{shell: known}
	if !known {
		return s
	}
	file, err := p.parser(dialect).Parse(strings.NewReader(text), "")
	if err != nil {
		s.line, s.column = 1, 1
		s.fault = err.Error()
		var parse syntax.ParseError
		var language syntax.LangError
		switch {
		case errors.As(err, &parse):
			s.fault = parse.Text
			s.line, s.column = int(parse.Pos.Line()), int(parse.Pos.Col())
		case errors.As(err, &language):
			s.fault = strings.TrimPrefix(language.Error(), language.Pos.String()+": ")
			s.line, s.column = int(language.Pos.Line()), int(language.Pos.Col())
		}
		return s
	}
	w := &walker{script: s, functions: map[string]bool{}, exported: map[string]string{}}
	if strings.Contains(text, "()") || strings.Contains(text, "function") {
		syntax.Walk(file, func(node syntax.Node) bool {
			if function, ok := node.(*syntax.FuncDecl); ok {
				w.functions[function.Name.Value] = true
			}
			return true
		})
	}
	for _, statement := range file.Stmts {
		w.statement(statement, false)
	}
	return s
}

// walker collects the commands of a script, knowing which of them are fed.
type walker struct {
	script    *script
	functions map[string]bool
	exported  map[string]string
	// guards counts the conditions that the commands now visited stand under.
	guards int
}

func (w *walker) statement(statement *syntax.Stmt, fed bool) {
	for _, redirect := range statement.Redirs {
		switch redirect.Op {
		case syntax.RdrIn, syntax.RdrInOut, syntax.Hdoc, syntax.DashHdoc, syntax.WordHdoc, syntax.DplIn:
			fed = true
		}
	}
	switch command := statement.Cmd.(type) {
	case nil:
	case *syntax.CallExpr:
		w.call(command, fed)
	case *syntax.DeclClause:
		w.declare(command)
	case *syntax.BinaryCmd:
		w.statement(command.X, fed)
		piped := command.Op == syntax.Pipe || command.Op == syntax.PipeAll
		if !piped {
			w.guards++
			defer func() { w.guards-- }()
		}
		w.statement(command.Y, fed || piped)
	default:
		switch command.(type) {
		case *syntax.IfClause, *syntax.CaseClause:
			w.guards++
			defer func() { w.guards-- }()
		}
		// Every other command is made of statements, which inherit its input.
		syntax.Walk(command, func(node syntax.Node) bool {
			if inner, ok := node.(*syntax.Stmt); ok {
				w.statement(inner, fed)
				return false
			}
			return true
		})
	}
}

// declare notes what a script exports: DEBIAN_FRONTEND and the like change
// whether later commands ask.
func (w *walker) declare(clause *syntax.DeclClause) {
	if clause.Variant.Value != "export" {
		return
	}
	for _, assign := range clause.Args {
		if assign.Name != nil && assign.Value != nil {
			w.exported[assign.Name.Value] = literal(assign.Value)
		}
	}
}

func (w *walker) call(call *syntax.CallExpr, fed bool) {
	// Command substitutions run commands too.
	syntax.Walk(call, func(node syntax.Node) bool {
		if inner, ok := node.(*syntax.Stmt); ok {
			w.statement(inner, fed)
			return false
		}
		return true
	})
	if len(call.Args) == 0 {
		return
	}
	words := make([]string, len(call.Args))
	for i, word := range call.Args {
		words[i] = literal(word)
	}
	environment := map[string]string{}
	maps.Copy(environment, w.exported)
	for _, assign := range call.Assigns {
		if assign.Name != nil && assign.Value != nil {
			environment[assign.Name.Value] = literal(assign.Value)
		}
	}
	if words[0] == "export" {
		// POSIX sh parses it as a command, bash as a declaration.
		for _, word := range words[1:] {
			if name, value, set := strings.Cut(word, "="); set {
				w.exported[name] = value
			}
		}
		return
	}
	sudo := path.Base(words[0]) == "sudo"
	words = unwrap(words, environment)
	if len(words) == 0 || w.functions[words[0]] {
		return
	}
	at := call.Args[0].Pos()
	w.script.commands = append(w.script.commands, command{
		words: words, line: int(at.Line()), column: int(at.Col()), fed: fed, environment: environment, sudo: sudo, guarded: w.guards > 0,
	})
}

// literal returns a word's text if it is fixed, quotes removed, and "" otherwise.
func literal(word *syntax.Word) string {
	var text strings.Builder
	for _, part := range word.Parts {
		switch part := part.(type) {
		case *syntax.Lit:
			text.WriteString(strings.ReplaceAll(part.Value, "\\", ""))
		case *syntax.SglQuoted:
			text.WriteString(part.Value)
		case *syntax.DblQuoted:
			for _, inner := range part.Parts {
				lit, ok := inner.(*syntax.Lit)
				if !ok {
					return ""
				}
				text.WriteString(lit.Value)
			}
		default:
			return ""
		}
	}
	return text.String()
}

// wrappers run the command that follows their own options; the value says which
// of their options take a word of their own.
var wrappers = map[string]string{
	"sudo": "ugCphr", "env": "uCS", "nice": "n", "ionice": "cn", "nohup": "", "time": "", "exec": "a",
	"command": "", "stdbuf": "ioe", "setsid": "", "timeout": "ks", "doas": "uC", "eatmydata": "",
}

// unwrap removes wrappers such as sudo and env from the front of a command.
func unwrap(words []string, environment map[string]string) []string {
	for len(words) > 0 {
		name := path.Base(words[0])
		takesWord, wraps := wrappers[name]
		asks := name == "command" && len(words) > 1 && strings.ContainsAny(words[1], "vV") && strings.HasPrefix(words[1], "-")
		if !wraps || asks {
			words[0] = name
			return words
		}
		words = words[1:]
		for len(words) > 0 {
			option := words[0]
			switch {
			case strings.HasPrefix(option, "-"):
				words = words[1:]
				if len(option) == 2 && strings.Contains(takesWord, option[1:]) && len(words) > 0 {
					words = words[1:]
				}
				continue
			case strings.Contains(option, "=") && !strings.HasPrefix(option, "="):
				key, value, _ := strings.Cut(option, "=")
				environment[key] = value
				words = words[1:]
				continue
			}
			break
		}
		if name == "timeout" && len(words) > 0 {
			words = words[1:]
		}
	}
	return words
}
