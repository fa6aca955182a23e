package check

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"runtime"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"stavren.example/stavren/fleet"
)

// script is a parsed first-boot script.
type script struct {
	// shell reports whether there is a parser for the script.
	shell bool
	// fault says why it does not parse, at line and column, or is empty.
	fault        string
	line, column int
	commands     []command
}

// command is a simple command that a script runs.
type command struct {
	// words are its name and arguments, without wrappers such as sudo. A word that
	// is only known when the script runs is "".
	words        []string
	line, column int
	// fed reports whether its input is a pipe, a file or a here-document rather
	// than the boot's own input, which is empty.
	fed bool
	// environment holds the variables that rules ask about, if they are set for the
	// command or were exported before it.
	environment map[string]string
	// sudo reports whether it runs under sudo.
	sudo bool
	// guarded reports whether another command decides if it runs.
	guarded bool
}

func (c command) name() string { return c.words[0] }

// has reports whether one of the words is an argument.
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

// hasShort reports whether a letter is in a group of short options, such as -qy.
func (c command) hasShort(letter string) bool {
	for _, argument := range c.words[1:] {
		if strings.HasPrefix(argument, "-") && !strings.HasPrefix(argument, "--") &&
			strings.Contains(argument, letter) {
			return true
		}
	}
	return false
}

// operands returns the arguments that are not options.
func (c command) operands() (operands []string) {
	for _, argument := range c.words[1:] {
		if !strings.HasPrefix(argument, "-") {
			operands = append(operands, argument)
		}
	}
	return operands
}

// scripts parses scripts and remembers them by their text: kits give many machines
// the same script.
type scripts struct {
	known   map[string]*script
	parsers map[syntax.LangVariant]*syntax.Parser
}

// maxScripts is how many parsed scripts are remembered.
const maxScripts = 1000

func newScripts() *scripts {
	return &scripts{known: map[string]*script{}, parsers: map[syntax.LangVariant]*syntax.Parser{}}
}

// parsed returns a script of a machine, parsed. A script that runs on Windows, or
// that is PowerShell by its file's name, isn't a shell script.
func (s *scripts) parsed(f *fleet.Fleet, m *fleet.Machine, of *fleet.Script) *script {
	first, _, _ := strings.Cut(of.Text, "\n")
	first = strings.ToLower(first)
	windows := isWindows(f, m)
	if windows && (strings.HasPrefix(first, "@echo") || strings.HasPrefix(first, "rem cmd")) {
		return &script{} // for cmd, which nothing here reads
	}
	parse, key := s.parseShell, of.Text
	if windows || strings.HasSuffix(of.File, ".ps1") ||
		strings.HasPrefix(first, "#!") && strings.Contains(first, "pwsh") {
		parse, key = parsePowerShell, "PowerShell\x00"+of.Text
	}
	known := s.known[key]
	if known == nil {
		if len(s.known) >= maxScripts {
			clear(s.known)
		}
		known = parse(of.Text)
		s.known[key] = known
	}
	return known
}

// dialectOf returns the shell that the first line of a script names. A script
// without an interpreter line gets /bin/sh from every renderer.
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

// parser returns the parser of a dialect. It is reused, since its buffers are
// larger than most scripts.
func (s *scripts) parser(dialect syntax.LangVariant) *syntax.Parser {
	if s.parsers[dialect] == nil {
		s.parsers[dialect] = syntax.NewParser(syntax.Variant(dialect))
	}
	return s.parsers[dialect]
}

func (s *scripts) parseShell(text string) *script {
	dialect, ok := dialectOf(text)
	parsed := &script{shell: ok}
	if !ok {
		return parsed
	}
	w := &walker{script: parsed, functions: map[string]bool{}}
	source := &shellSource{rest: text}
	// Statement by statement, since the tree of a whole script takes a hundred times
	// its size.
	for statement, err := range s.parser(dialect).StmtsSeq(source) {
		if err != nil {
			return notParsed(err, source)
		}
		w.statement(statement, false)
		source.statement = 0
	}
	parsed.commands = slices.DeleteFunc(parsed.commands, func(c command) bool { return w.functions[c.name()] })
	return parsed
}

// notParsed returns a script with the reason why it doesn't parse.
func notParsed(err error, source *shellSource) *script {
	parsed := &script{shell: true, fault: err.Error(), line: 1, column: 1}
	var parse syntax.ParseError
	var language syntax.LangError
	switch {
	case errors.Is(err, errDeep), errors.Is(err, errLong):
		parsed.line = source.line()
	case errors.As(err, &parse):
		parsed.fault = parse.Text
		parsed.line, parsed.column = int(parse.Pos.Line()), int(parse.Pos.Col())
	case errors.As(err, &language):
		parsed.fault = strings.TrimPrefix(language.Error(), language.Pos.String()+": ")
		parsed.line, parsed.column = int(language.Pos.Line()), int(language.Pos.Col())
	}
	return parsed
}

// Bounds of parsing a script. Parsing goes as deep as a script nests, and a stack
// that is full ends the process.
const (
	maxShellFrames    = 2000      // calls that are open: some 250 levels of nesting
	maxShellStatement = 512 << 10 // bytes of one statement
)

var (
	errDeep = errors.New("its commands nest too deeply to be checked")
	errLong = fmt.Errorf("one command has more than %v", fleet.Bytes(maxShellStatement))
)

// shellSource gives the parser a script, and stops it at the bounds.
type shellSource struct {
	rest      string
	statement int // bytes read since the last statement
	lines     int
}

// Read is called from the depth of what is being parsed, so it can see how deep that is.
func (s *shellSource) Read(into []byte) (int, error) {
	var frame [1]uintptr
	switch {
	case runtime.Callers(maxShellFrames, frame[:]) > 0:
		return 0, errDeep
	case s.statement > maxShellStatement:
		return 0, errLong
	case s.rest == "":
		return 0, io.EOF
	}
	n := copy(into, s.rest)
	s.lines += strings.Count(s.rest[:n], "\n")
	s.statement += n
	s.rest = s.rest[n:]
	return n, nil
}

// line returns the line that was read last.
func (s *shellSource) line() int { return 1 + s.lines }

// walker collects the commands of a script and notes which of them are fed.
type walker struct {
	script    *script
	functions map[string]bool
	// exported are the variables that rules ask about. It isn't changed, but replaced,
	// since commands share it.
	exported map[string]string
	// guards counts the conditions around the commands being visited.
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
	case *syntax.FuncDecl:
		w.functions[command.Name.Value] = true
		if command.Body != nil {
			w.statement(command.Body, fed)
		}
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
		// Every other command consists of statements, which inherit its input.
		syntax.Walk(command, func(node syntax.Node) bool {
			if inner, ok := node.(*syntax.Stmt); ok {
				w.statement(inner, fed)
				return false
			}
			return true
		})
	}
}

// declare notes what a script exports: variables such as DEBIAN_FRONTEND decide
// whether later commands ask questions.
func (w *walker) declare(clause *syntax.DeclClause) {
	if clause.Variant.Value != "export" {
		return
	}
	for _, assign := range clause.Args {
		if assign.Name != nil && assign.Value != nil {
			w.exported = with(w.exported, assign.Name.Value, literal(assign.Value))
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
	environment := w.exported
	for _, assign := range call.Assigns {
		if assign.Name != nil && assign.Value != nil {
			environment = with(environment, assign.Name.Value, literal(assign.Value))
		}
	}
	if words[0] == "export" {
		// POSIX sh parses it as a command, bash as a declaration.
		for _, word := range words[1:] {
			if name, value, set := strings.Cut(word, "="); set {
				w.exported = with(w.exported, name, value)
			}
		}
		return
	}
	sudo := path.Base(words[0]) == "sudo"
	words, environment = unwrap(words, environment)
	if len(words) == 0 {
		return
	}
	at := call.Args[0].Pos()
	w.script.commands = append(w.script.commands, command{
		words: words, line: int(at.Line()), column: int(at.Col()), fed: fed, environment: environment, sudo: sudo,
		guarded: w.guards > 0,
	})
}

// literal returns the text of a fixed word without its quotes, or "" for any other.
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

// wrappers run the command that follows their own options. The value lists the
// options that take an argument.
var wrappers = map[string]string{
	"sudo": "ugCphr", "env": "uCS", "nice": "n", "ionice": "cn", "nohup": "", "time": "", "exec": "a",
	"command": "", "stdbuf": "ioe", "setsid": "", "timeout": "ks", "doas": "uC", "eatmydata": "",
}

// unwrap removes wrappers such as sudo and env from the front of a command, and sets
// the variables that they set.
func unwrap(words []string, environment map[string]string) ([]string, map[string]string) {
	for len(words) > 0 {
		name := path.Base(words[0])
		takesWord, wraps := wrappers[name]
		asks := name == "command" && len(words) > 1 && strings.ContainsAny(words[1], "vV") &&
			strings.HasPrefix(words[1], "-")
		if !wraps || asks {
			words[0] = name
			return words, environment
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
				environment = with(environment, key, value)
				words = words[1:]
				continue
			}
			break
		}
		if name == "timeout" && len(words) > 0 {
			words = words[1:]
		}
	}
	return words, environment
}

// with returns an environment in which a variable is set, if a rule asks about it.
func with(environment map[string]string, name, value string) map[string]string {
	if name != frontend && name != assumeYes || environment[name] == value {
		return environment
	}
	environment = maps.Clone(environment)
	if environment == nil {
		environment = map[string]string{}
	}
	environment[name] = value
	return environment
}

// Variables that decide whether a command asks questions.
const (
	frontend  = "DEBIAN_FRONTEND"
	assumeYes = "ASSUME_ALWAYS_YES"
)
