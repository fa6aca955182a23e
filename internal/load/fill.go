package load

import (
	"context"
	"crypto/rand"
	"errors"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"text/template"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
)

// fill runs every text with fill: true through text/template. The fleet has been
// completed, so that addresses and chosen ports are known, unless it has faults;
// then texts are only read for faults of their own.
func fill(ctx context.Context, f *fleet.Fleet, faults *document.Faults) {
	filler := newFiller(f, !faults.Any())
	each := func(m *fleet.Machine, kind, name string, fill bool, content *fleet.Content) {
		if !fill || filler.budget.spent() || ctx.Err() != nil {
			return
		}
		if faults.Full() {
			faults.Skip()
			return
		}
		defer faults.At("machines", m.Name, "first_boot", kind, name)()
		filler.fill(m, content, faults)
	}
	for _, m := range f.Machines {
		if m.FirstBoot == nil {
			continue
		}
		for _, file := range m.FirstBoot.Files {
			each(m, "files", file.Path, file.Fill, &file.Content)
		}
		for _, script := range m.FirstBoot.Scripts {
			each(m, "scripts", script.Name, script.Fill, &script.Content)
		}
	}
}

// filler fills the texts of a fleet, one after the other.
type filler struct {
	fleet *fleet.Fleet
	// complete reports that the fleet is, so that texts can be filled.
	complete bool
	budget   *budget
	// parsed has the templates that were parsed, by their text: copies share theirs.
	parsed map[string]*template.Template
	// machine is the one whose text is being filled.
	machine *fleet.Machine
	names   []string
	marks   marks
	// remedy says what to do about the last error.
	remedy string
}

func newFiller(f *fleet.Fleet, complete bool) *filler {
	filler := &filler{
		fleet: f, complete: complete, budget: newBudget(), parsed: map[string]*template.Template{},
		marks: marks{start: rand.Text()},
	}
	for _, m := range f.Machines {
		filler.names = append(filler.names, m.Name)
	}
	return filler
}

// fill fills one text of a machine, or reports why it can't be.
func (f *filler) fill(m *fleet.Machine, content *fleet.Content, faults *document.Faults) {
	f.machine, f.remedy, f.marks.secrets = m, "", nil
	parsed, err := f.parse(content.Text)
	if err == nil && !f.complete {
		return
	}
	var filled fleet.Content
	if err == nil {
		filled, err = f.execute(parsed)
	}
	if err != nil {
		message, place := fillFault(content, err)
		remedy := f.remedy
		if remedy == "" {
			remedy = "functions are machine NAME FIELD, self FIELD, port MACHINE NAME, secret NAME and machines"
		}
		faults.AddAt(document.FillingFailed, place, message, remedy)
		return
	}
	content.Unfilled, content.Filled = content.Text, true
	content.Text, content.Secrets = filled.Text, filled.Secrets
}

func (f *filler) execute(parsed *template.Template) (fleet.Content, error) {
	output := &output{filler: f}
	if err := parsed.Execute(output, nil); err != nil {
		return fleet.Content{}, err
	}
	return f.marks.content(output.String())
}

// marks stand for secrets while a text is being filled. They start with a text that
// nobody could have written, so only the function secret makes any.
type marks struct {
	start string
	// secrets are the names of the secrets that the text has asked for.
	secrets []string
}

// errChanged ends a template that takes a secret apart.
var errChanged = errors.New("a secret can only be written as it is")

// mark returns a new mark for a secret.
func (m *marks) mark(name string) string {
	m.secrets = append(m.secrets, name)
	return m.start + strconv.Itoa(len(m.secrets)-1) + "."
}

// content returns a filled text with the places of its secrets.
func (m *marks) content(text string) (fleet.Content, error) {
	parts := strings.Split(text, m.start)
	var content fleet.Content
	var whole strings.Builder
	whole.WriteString(parts[0])
	for _, part := range parts[1:] {
		number, rest, found := strings.Cut(part, ".")
		at, err := strconv.Atoi(number)
		if !found || err != nil || at < 0 || at >= len(m.secrets) {
			return fleet.Content{}, errChanged
		}
		var mark fleet.Content
		mark.AppendSecret(m.secrets[at])
		start := whole.Len()
		whole.WriteString(mark.Text)
		content.Secrets = append(content.Secrets, fleet.SecretPlace{
			Name: m.secrets[at], Start: start, End: whole.Len(),
		})
		whole.WriteString(rest)
	}
	content.Text = whole.String()
	return content, nil
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
	case errors.Is(err, errChanged):
		message = errChanged.Error()
	default:
		message = strings.TrimPrefix(message, `executing "text" at `)
	}
	return "the text cannot be filled: " + message, content.PlaceAt(line, column)
}
