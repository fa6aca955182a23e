package load

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"text/template"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
	"stavren.example/stavren/internal/nearest"
)

// functions returns the functions that a text can call, beside those of text/template
// that compare, index and slice.
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
		"port":     f.port,
		"secret":   f.secret,
		"machines": f.machines,
		"print":    f.print,
		"println":  f.println,
		"printf":   f.printf,
	}
}

// functionNames returns the names of all functions that a text can call.
func functionNames() []string {
	names := slices.Sorted(maps.Keys((&filler{}).functions()))
	return append(names, "and", "eq", "ge", "gt", "index", "le", "len", "lt", "ne", "not", "or", "slice")
}

func (f *filler) port(machine, name string) (int, error) {
	m, err := f.find(machine)
	if err != nil {
		return 0, err
	}
	var known []string
	for _, port := range m.Ports {
		if port.Name == name {
			return port.Host, f.step(1 + len(known))
		}
		known = append(known, port.Name)
	}
	return 0, f.fail(fmt.Sprintf("machine %s has no port %q", machine, name), nearest.Remedy(name, known))
}

// machines returns the names of all machines, for a range whose every round takes some
// steps.
func (f *filler) machines(steps ...int) ([]string, error) {
	each := 1
	if len(steps) > 0 {
		each = steps[0]
	}
	return f.names, f.step(each * len(f.names))
}

// marked is a text with secrets. It can be written as it is, and nothing else: it is
// no string, so that the functions of text/template don't take it apart.
type marked struct {
	text    string
	changed *bool
}

// Format writes the text, or notes that a format would change it.
func (m marked) Format(state fmt.State, verb rune) {
	_, width := state.Width()
	_, precision := state.Precision()
	flagged := state.Flag('+') || state.Flag('-') || state.Flag('#') || state.Flag(' ') || state.Flag('0')
	if width || precision || flagged || verb != 's' && verb != 'v' {
		*m.changed = true
		return
	}
	_, _ = state.Write([]byte(m.text))
}

func (f *filler) secret(name string) (marked, error) {
	if f.fleet.Secret(name) == nil {
		var known []string
		for _, secret := range f.fleet.Secrets {
			known = append(known, secret.Name)
		}
		return marked{}, f.fail(fmt.Sprintf("the secret %q is not defined", name),
			"define it under secrets; "+nearest.Remedy(name, known))
	}
	mark := f.marks.mark(name)
	return marked{mark, new(bool)}, f.room(len(mark))
}

func (f *filler) print(values ...any) (any, error)   { return f.join(fmt.Sprint, values) }
func (f *filler) println(values ...any) (any, error) { return f.join(fmt.Sprintln, values) }

// join puts values together. Those with secrets are texts to it.
func (f *filler) join(write func(...any) string, values []any) (any, error) {
	size, secret := 0, false
	for i, value := range values {
		if text, ok := value.(marked); ok {
			values[i], secret = text.text, true
		}
		size += 1 + length(values[i])
	}
	if err := f.room(size); err != nil {
		return "", err
	}
	if secret {
		return marked{write(values...), new(bool)}, nil
	}
	return write(values...), nil
}

// printf formats values. Its verbs take one value each, so that the length of the
// result is known before it is made.
func (f *filler) printf(format string, values ...any) (any, error) {
	size, err := f.formatted(format, values)
	if err == nil {
		err = f.room(size)
	}
	if err != nil {
		return "", err
	}
	changed, secret := false, false
	for i, value := range values {
		if text, ok := value.(marked); ok {
			values[i], secret = marked{text.text, &changed}, true
		}
	}
	text := fmt.Sprintf(format, values...)
	switch {
	case changed:
		return "", f.fail(errChanged.Error(), "write %s for it")
	case secret:
		return marked{text, new(bool)}, nil
	}
	return text, nil
}

// formatted returns an upper bound of the length of a formatted text.
func (f *filler) formatted(format string, values []any) (int, error) {
	size := len(format)
	for _, value := range values {
		// Quoting makes ten characters of one at most, as in \U0010ffff.
		size += 10*length(value) + len("%!v(EXTRA =)")
	}
	rest := format
	for {
		_, verb, found := strings.Cut(rest, "%")
		if !found {
			return size, nil
		}
		rest = strings.TrimLeft(verb, "+-# 0")
		for rest != "" && (rest[0] == '.' || rest[0] >= '0' && rest[0] <= '9') {
			digits := strings.TrimLeft(rest, ".")
			after := strings.TrimLeft(digits, "0123456789")
			number, err := strconv.Atoi("0" + digits[:len(digits)-len(after)])
			if err != nil || number > maxValue {
				return 0, f.fail("a width in printf is too large", "write a smaller one")
			}
			size += number
			rest = after
		}
		if rest != "" && (rest[0] == '*' || rest[0] == '[') {
			return 0, f.fail("printf takes no * and no [ after % here", "write the width out, and each value once")
		}
		if rest != "" && (rest[0] == 'T' || rest[0] == 'p') {
			return 0, f.fail("printf takes no %T and no %p here", "write %v for the value")
		}
		rest = strings.TrimPrefix(rest, "%")
		size += len("%!v(BADINDEX)")
	}
}

// length returns how long a value is at most when it is written.
func length(value any) int {
	switch value := value.(type) {
	case string:
		return len(value)
	case marked:
		return len(value.text)
	case []string:
		size := 0
		for _, text := range value {
			size += 1 + len(text)
		}
		return size
	}
	return 70 // a number in binary, with its sign
}

// find returns the machine of that name.
func (f *filler) find(name string) (*fleet.Machine, error) {
	if m := f.fleet.Machine(name); m != nil {
		return m, nil
	}
	return nil, f.fail("the machine "+document.Quoted(name)+" is not defined", nearest.Remedy(name, f.names))
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
	if err := f.step(1); err != nil {
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
