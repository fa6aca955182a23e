package load

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"text/template"
	"text/template/parse"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
	"stavren.example/stavren/internal/nearest"
)

// Bounds of filling: a template can ask for more than any machine can hold.
const (
	maxFilled = document.MaxContent
	maxCalls  = 100000
)

// fill runs every text with fill: true through text/template. The fleet has been
// completed, so that addresses and chosen ports are known, unless it has faults;
// then texts are only read for faults of their own.
func fill(f *fleet.Fleet, faults *document.Faults) {
	complete := !faults.Any()
	for _, m := range f.Machines {
		if m.FirstBoot == nil {
			continue
		}
		for _, file := range m.FirstBoot.Files {
			if file.Fill {
				restore := faults.At("machines", m.Name, "first_boot", "files", file.Path)
				fillText(f, m, &file.Content, faults, complete)
				restore()
			}
		}
		for _, script := range m.FirstBoot.Scripts {
			if script.Fill {
				restore := faults.At("machines", m.Name, "first_boot", "scripts", script.Name)
				fillText(f, m, &script.Content, faults, complete)
				restore()
			}
		}
	}
}

// errTooLong ends a template that writes too much.
var errTooLong = errors.New("the filled text is too long")

// boundedBuffer takes no more than maxFilled bytes.
type boundedBuffer struct{ bytes.Buffer }

func (b *boundedBuffer) Write(data []byte) (int, error) {
	if b.Len()+len(data) > maxFilled {
		return 0, errTooLong
	}
	return b.Buffer.Write(data)
}

func fillText(f *fleet.Fleet, m *fleet.Machine, content *fleet.Content, faults *document.Faults, complete bool) {
	filler := &filler{fleet: f, machine: m}
	parsed, err := template.New("text").Option("missingkey=error").Funcs(filler.functions()).Parse(content.Text)
	var filled boundedBuffer
	if err == nil {
		err = filler.bounded(parsed)
	}
	if err == nil && !complete {
		return
	}
	if err == nil {
		err = parsed.Execute(&filled, nil)
	}
	if err != nil {
		message, place := fillFault(content, err)
		remedy := filler.remedy
		if remedy == "" {
			remedy = "functions are machine NAME FIELD, self FIELD, port MACHINE NAME, secret NAME and machines"
		}
		faults.AddAt(document.FillingFailed, place, message, remedy)
		return
	}
	content.Unfilled, content.Text, content.Filled = content.Text, filled.String(), true
}

// bounded refuses what could run forever: ranges over anything but the machines, and
// templates that call each other.
func (f *filler) bounded(parsed *template.Template) error {
	var walk func(node parse.Node) error
	each := func(lists ...*parse.ListNode) error {
		for _, list := range lists {
			if list == nil {
				continue
			}
			for _, node := range list.Nodes {
				if err := walk(node); err != nil {
					return err
				}
			}
		}
		return nil
	}
	walk = func(node parse.Node) error {
		switch node := node.(type) {
		case *parse.TemplateNode:
			return f.fail("templates cannot call templates here", "write the text out")
		case *parse.RangeNode:
			if pipe := node.Pipe.String(); !strings.HasSuffix(pipe, "machines") {
				return f.fail("range only goes over machines, not over "+document.Quoted(pipe),
					"write {{range machines}}")
			}
			return each(node.List, node.ElseList)
		case *parse.IfNode:
			return each(node.List, node.ElseList)
		case *parse.WithNode:
			return each(node.List, node.ElseList)
		}
		return nil
	}
	if len(parsed.Templates()) > 1 {
		return f.fail("a text cannot define templates", "write the text out")
	}
	if parsed.Tree == nil {
		return nil
	}
	return each(parsed.Root)
}

// templatePlace is the form in which text/template says where it failed.
var templatePlace = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^template: text:(\d+)(?::(\d+))?: `)
})

// fillFault returns the message and place of a template's error.
func fillFault(content *fleet.Content, err error) (string, fleet.Place) {
	message := err.Error()
	line, column := 1, 1
	if match := templatePlace().FindStringSubmatch(message); match != nil {
		message = message[len(match[0]):]
		line, _ = strconv.Atoi(match[1])
		if match[2] != "" {
			// text/template counts columns in bytes from 0.
			column, _ = strconv.Atoi(match[2])
			column++
		}
	}
	var filling fillError
	switch {
	case errors.As(err, &filling):
		message = string(filling)
	case errors.Is(err, errTooLong):
		message = fmt.Sprintf("the filled text is longer than %v", fleet.Bytes(maxFilled))
	default:
		message = strings.TrimPrefix(message, `executing "text" at `)
	}
	return "the text cannot be filled: " + message, content.PlaceAt(line, column)
}

// fillError is an error of one of the functions that texts can call.
type fillError string

func (e fillError) Error() string { return string(e) }

// filler provides the functions that one text can call.
type filler struct {
	fleet   *fleet.Fleet
	machine *fleet.Machine
	calls   int
	// remedy says what to do about the last error.
	remedy string
}

// functions returns the functions that a text can call. printf is among them so that
// its calls count.
func (f *filler) functions() template.FuncMap {
	return template.FuncMap{
		"self": func(field string) (string, error) { return f.field(f.machine, field) },
		"machine": func(name, field string) (string, error) {
			m, err := f.find(name)
			if err != nil {
				return "", err
			}
			return f.field(m, field)
		},
		"port": func(machine, name string) (int, error) {
			m, err := f.find(machine)
			if err != nil {
				return 0, err
			}
			var known []string
			for _, port := range m.Ports {
				if port.Name == name {
					return port.Host, f.count(1)
				}
				known = append(known, port.Name)
			}
			return 0, f.fail(fmt.Sprintf("machine %s has no port %q", machine, name), nearest.Remedy(name, known))
		},
		"secret": func(name string) (string, error) {
			if f.fleet.Secret(name) == nil {
				var known []string
				for _, secret := range f.fleet.Secrets {
					known = append(known, secret.Name)
				}
				return "", f.fail(fmt.Sprintf("the secret %q is not defined", name),
					"define it under secrets; "+nearest.Remedy(name, known))
			}
			return fleet.SecretMark(name), f.count(1)
		},
		"machines": func() ([]string, error) {
			var names []string
			for _, m := range f.fleet.Machines {
				names = append(names, m.Name)
			}
			return names, f.count(len(names))
		},
		"printf": func(format string, values ...any) (string, error) {
			text := fmt.Sprintf(format, values...)
			return text, f.count(1 + len(text)/1000)
		},
	}
}

func (f *filler) fail(message, remedy string) error {
	f.remedy = remedy
	return fillError(message)
}

// count limits how much work a text can ask for.
func (f *filler) count(calls int) error {
	if f.calls += calls; f.calls > maxCalls {
		return f.fail(fmt.Sprintf("filling takes more than %d calls", maxCalls), "ask for less")
	}
	return nil
}

func (f *filler) find(name string) (*fleet.Machine, error) {
	if m := f.fleet.Machine(name); m != nil {
		return m, nil
	}
	var known []string
	for _, m := range f.fleet.Machines {
		known = append(known, m.Name)
	}
	return nil, f.fail(fmt.Sprintf("the machine %q is not defined", name), nearest.Remedy(name, known))
}

// fillField is a value of a machine that a text can ask for.
type fillField struct {
	name string
	of   func(m *fleet.Machine) string
}

// fillFields are the values of a machine that a text can ask for. The documentation
// lists them.
var fillFields = []fillField{
	{"name", func(m *fleet.Machine) string { return m.Name }},
	{"host_name", func(m *fleet.Machine) string { return m.HostName }},
	{"full_name", (*fleet.Machine).FullName},
	{"domain", func(m *fleet.Machine) string { return m.Domain }},
	{"address", fixedAddress},
	{"about", func(m *fleet.Machine) string { return m.About }},
	{"image", func(m *fleet.Machine) string { return m.Image }},
	{"cpus", func(m *fleet.Machine) string { return strconv.Itoa(m.Resources.CPUs) }},
	{"memory", func(m *fleet.Machine) string { return m.Resources.Memory.String() }},
}

// FillFields returns the names of the values of a machine that texts can ask for.
func FillFields() []string {
	var names []string
	for _, field := range fillFields {
		names = append(names, field.name)
	}
	return names
}

// fixedAddress returns the first fixed address of a machine, or "".
func fixedAddress(m *fleet.Machine) string {
	for _, nic := range m.NICs {
		if nic.Address.IsValid() {
			return nic.Address.String()
		}
	}
	return ""
}

func (f *filler) field(m *fleet.Machine, name string) (string, error) {
	if err := f.count(1); err != nil {
		return "", err
	}
	at := slices.IndexFunc(fillFields, func(field fillField) bool { return field.name == name })
	if at < 0 {
		return "", f.fail(fmt.Sprintf("a machine has no field %q here", name), nearest.Remedy(name, FillFields()))
	}
	value := fillFields[at].of(m)
	if value == "" && name == "address" {
		return "", f.fail(fmt.Sprintf("machine %s has no fixed address", m.Name),
			"give one of its nics an address, or use its name")
	}
	return value, nil
}
