package hypervisor

import (
	_ "embed"
	"text/template"
)

//go:embed shell.template
var shellText string

// Template returns the template of a shell script, which can use what scripts of all
// hypervisors share: see shell.template.
func Template(name, text string) *template.Template {
	return template.Must(template.Must(template.New("shell").Parse(shellText)).New(name).Parse(text))
}
