package source

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"text/template"
	"text/template/parse"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/nearest"
)

// Bounds of filling: a template can ask for more than any machine can take.
const (
	maxFilled = MaxContent
	maxCalls  = 100000
)

// fillAll runs every text with fill: true through text/template, once the fleet
// is complete, so that addresses and chosen ports are known. A fleet with faults
// cannot be asked for them; then the texts are only read for their own faults.
func (r *reader) fillAll(f *fleet.Fleet) {
	for _, m := range f.Machines {
		if m.FirstBoot == nil {
			continue
		}
		r.path = trail{"machines", m.Name, "first_boot"}
		for _, file := range m.FirstBoot.Files {
			if file.Fill {
				r.fill(f, m, &file.Content, "files", file.Path)
			}
		}
		for _, script := range m.FirstBoot.Scripts {
			if script.Fill {
				r.fill(f, m, &script.Content, "scripts", script.Name)
			}
		}
	}
	r.path = nil
}

// errTooLong ends a template that writes without end.
var errTooLong = errors.New("the filled text is too long")

// boundedBuffer takes no more than maxFilled bytes.
type boundedBuffer struct{ bytes.Buffer }

func (b *boundedBuffer) Write(data []byte) (int, error) {
	if b.Len()+len(data) > maxFilled {
		return 0, errTooLong
	}
	return b.Buffer.Write(data)
}

func (r *reader) fill(f *fleet.Fleet, m *fleet.Machine, content *fleet.Content, list, name string) {
	r.enter(list)
	r.enter(name)
	defer r.leave()
	defer r.leave()
	filler := &filler{fleet: f, machine: m}
	parsed, err := template.New("text").Option("missingkey=error").Funcs(filler.functions()).Parse(content.Text)
	var filled boundedBuffer
	if err == nil {
		err = filler.bounded(parsed)
	}
	if err == nil && r.faulty {
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
		r.faultAt(ruleFilling, place, message, remedy)
		return
	}
	content.Unfilled, content.Text, content.Filled = content.Text, filled.String(), true
}

// bounded refuses what could run without end: ranges over anything but the
// machines, and templates that call each other.
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
				return f.fail("range goes over machines alone, not over "+quoted(pipe), "write {{range machines}}")
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

// templatePlace is how text/template says where it failed.
var templatePlace = regexp.MustCompile(`^template: text:(\d+)(?::(\d+))?: `)

// fillFault finds the place of a template's error within the text.
func fillFault(content *fleet.Content, err error) (string, fleet.Place) {
	message := err.Error()
	line, column := 1, 1
	if match := templatePlace.FindStringSubmatch(message); match != nil {
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

// fillError is an error of one of the functions of filling.
type fillError string

func (e fillError) Error() string { return string(e) }

// filler answers the functions of one text.
type filler struct {
	fleet   *fleet.Fleet
	machine *fleet.Machine
	calls   int
	// remedy is what to do about the error that was returned last.
	remedy string
}

// functions are what a text can ask for. printf is here so that its calls count.
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
				return "", f.fail(fmt.Sprintf("the secret %q is not defined", name), "define it under secrets; "+nearest.Remedy(name, known))
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

// count bounds how much work a text can ask for.
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

// fillFields are what a text can ask of a machine.
var fillFields = []string{"name", "host_name", "full_name", "domain", "address", "about", "image", "cpus", "memory"}

func (f *filler) field(m *fleet.Machine, field string) (string, error) {
	if err := f.count(1); err != nil {
		return "", err
	}
	switch field {
	case "name":
		return m.Name, nil
	case "host_name":
		return m.HostName, nil
	case "full_name":
		return m.FullName(), nil
	case "domain":
		return m.Domain, nil
	case "about":
		return m.About, nil
	case "image":
		return m.Image, nil
	case "cpus":
		return strconv.Itoa(m.Resources.CPUs), nil
	case "memory":
		return m.Resources.Memory.String(), nil
	case "address":
		for _, nic := range m.NICs {
			if nic.Address.IsValid() {
				return nic.Address.String(), nil
			}
		}
		return "", f.fail(fmt.Sprintf("machine %s has no fixed address", m.Name), "give one of its nics an address, or use its name")
	}
	return "", f.fail(fmt.Sprintf("a machine has no field %q here", field), nearest.Remedy(field, fillFields))
}
