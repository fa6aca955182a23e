package load

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"text/template"
	"text/template/parse"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
	"stavren.example/stavren/internal/nearest"
)

// Bounds of filling. A template is a program that a stranger may have written, so
// what it can ask for is counted. The last three are for all texts of a definition
// together, since one text may be that of a thousand copies.
const (
	maxFilled  = document.MaxContent // bytes of a filled text
	maxActions = 10000               // actions in double braces of a text
	maxNesting = 100                 // open parentheses or blocks
	maxValue   = 16 << 10            // bytes of a value in between
	maxSteps   = 2_000_000           // values that are looked at
	maxMade    = 16 << 20            // bytes of values in between
	maxWritten = 64 << 20            // bytes of filled texts
)

// budget is what the texts of a definition may still use.
type budget struct{ steps, made, written int }

func newBudget() *budget { return &budget{maxSteps, maxMade, maxWritten} }

// spent reports whether nothing more can be filled.
func (b *budget) spent() bool { return b.steps < 0 || b.made < 0 || b.written < 0 }

// output is a filled text within its bounds.
type output struct {
	bytes.Buffer
	filler *filler
}

func (o *output) Write(data []byte) (int, error) {
	budget := o.filler.budget
	if budget.written -= len(data); budget.written < 0 {
		return 0, o.filler.fail(fmt.Sprintf("the filled texts of the definition are longer than %v",
			fleet.Bytes(maxWritten)), "write less, or split the definition")
	}
	if o.Len()+len(data) > maxFilled {
		return 0, o.filler.fail(fmt.Sprintf("the filled text is longer than %v", fleet.Bytes(maxFilled)),
			"write less")
	}
	return o.Buffer.Write(data)
}

// fillError is an error of filling itself, rather than of text/template.
type fillError string

func (e fillError) Error() string { return string(e) }

func (f *filler) fail(message, remedy string) error {
	f.remedy = remedy
	return fillError(message)
}

// step counts values that a text looks at.
func (f *filler) step(steps int) error {
	if f.budget.steps -= steps; f.budget.steps < 0 {
		return f.fail(fmt.Sprintf("filling the texts of the definition takes more than %d steps", maxSteps),
			"ask for less, or split the definition")
	}
	return nil
}

// room counts the bytes of a value before it is made.
func (f *filler) room(size int) error {
	if size > maxValue {
		return f.fail(fmt.Sprintf("a value in between can be longer than %v", fleet.Bytes(maxValue)),
			"write long texts out instead of putting them together")
	}
	if f.budget.made -= size; f.budget.made < 0 {
		return f.fail(fmt.Sprintf("values in between take more than %v", fleet.Bytes(maxMade)),
			"ask for less, or split the definition")
	}
	return f.step(1)
}

// parse parses a text as a template that can't run for ever.
func (f *filler) parse(text string) (*template.Template, error) {
	if parsed := f.parsed[text]; parsed != nil {
		return parsed, f.step(1)
	}
	if err := f.nesting(text); err != nil {
		return nil, err
	}
	parsed, err := template.New("text").Option("missingkey=error").Funcs(f.functions()).Parse(text)
	if err != nil {
		return nil, err
	}
	if len(parsed.Templates()) > 1 {
		return nil, f.fail("a text cannot define templates", "write the text out")
	}
	if parsed.Tree != nil {
		if _, err := f.bound(parsed.Root); err != nil {
			return nil, err
		}
	}
	f.parsed[text] = parsed
	return parsed, nil
}

// nesting refuses texts whose parsing takes more memory than there may be.
func (f *filler) nesting(text string) error {
	actions, blocks := 0, 0
	for rest := text; ; {
		_, after, found := strings.Cut(rest, "{{")
		if !found {
			return nil
		}
		action, next, _ := strings.Cut(after, "}}")
		rest = next
		switch words := strings.Fields(strings.TrimPrefix(action, "-")); {
		case len(words) == 0:
		case words[0] == "end":
			blocks--
		case slices.Contains([]string{"if", "with", "range", "block", "define"}, words[0]):
			blocks++
		}
		if actions++; actions > maxActions {
			return f.fail(fmt.Sprintf("the text has more than %d actions in {{ }}", maxActions), "split it")
		}
		if blocks > maxNesting || open(action) > maxNesting {
			return f.fail(fmt.Sprintf("the text nests more than %d blocks or parentheses", maxNesting),
				"nest less")
		}
	}
}

// open returns how many parentheses of an action are open at once, at most.
func open(action string) int {
	depth, deepest := 0, 0
	for _, c := range action {
		switch c {
		case '(':
			depth++
			deepest = max(deepest, depth)
		case ')':
			depth--
		}
	}
	return deepest
}

// bound counts the steps of a list of nodes, of which each runs once. In front of
// each range it puts how many steps one time through costs, which the function
// machines takes from the budget. It refuses what can't be counted: ranges over
// anything but the machines, and templates that call each other.
func (f *filler) bound(list *parse.ListNode) (steps int, err error) {
	if list == nil {
		return 0, nil
	}
	for _, node := range list.Nodes {
		cost, err := f.boundNode(node)
		if err != nil {
			return 0, err
		}
		steps += cost
	}
	return steps, nil
}

func (f *filler) boundNode(node parse.Node) (steps int, err error) {
	switch node := node.(type) {
	case *parse.TemplateNode:
		return 0, f.fail("templates cannot call templates here", "write the text out")
	case *parse.ActionNode:
		return f.boundPipe(node.Pipe)
	case *parse.IfNode:
		return f.boundBranch(&node.BranchNode)
	case *parse.WithNode:
		return f.boundBranch(&node.BranchNode)
	case *parse.RangeNode:
		call := node.Pipe.Cmds
		if len(call) != 1 || len(call[0].Args) != 1 || call[0].Args[0].String() != "machines" {
			return 0, f.fail("range only goes over machines, not over "+document.Quoted(node.Pipe.String()),
				"write {{range machines}}")
		}
		inside, err := f.bound(node.List)
		if err != nil {
			return 0, err
		}
		otherwise, err := f.bound(node.ElseList)
		call[0].Args = append(call[0].Args, &parse.NumberNode{
			NodeType: parse.NodeNumber, Pos: node.Pos, IsInt: true, Int64: int64(1 + inside), Text: "",
		})
		return 1 + otherwise, err
	}
	return 1, nil
}

func (f *filler) boundBranch(node *parse.BranchNode) (steps int, err error) {
	for _, part := range []func() (int, error){
		func() (int, error) { return f.boundPipe(node.Pipe) },
		func() (int, error) { return f.bound(node.List) },
		func() (int, error) { return f.bound(node.ElseList) },
	} {
		cost, err := part()
		if err != nil {
			return 0, err
		}
		steps += cost
	}
	return steps, nil
}

// boundPipe counts the arguments of a pipeline, and refuses functions that aren't ours
// to count.
func (f *filler) boundPipe(pipe *parse.PipeNode) (steps int, err error) {
	for _, command := range pipe.Cmds {
		for _, arg := range command.Args {
			steps++
			switch arg := arg.(type) {
			case *parse.IdentifierNode:
				if slices.Contains([]string{"call", "html", "js", "urlquery"}, arg.Ident) {
					return 0, f.fail("the function "+arg.Ident+" is not available in texts",
						nearest.Remedy(arg.Ident, functionNames()))
				}
			case *parse.PipeNode:
				inside, err := f.boundPipe(arg)
				if err != nil {
					return 0, err
				}
				steps += inside
			}
		}
	}
	return steps, nil
}
