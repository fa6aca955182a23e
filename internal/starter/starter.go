// Package starter writes definitions to start from. They are small, have comments,
// and pass every check.
package starter

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"text/template"
)

// purpose is what a machine is for.
type purpose struct {
	name string
	// about describes it in one line, and machine is its part of the definition.
	about, machine string
}

var purposes = []purpose{
	{"bare", "An empty Debian machine", `    resources: {cpus: 1, memory: 1GiB}
    disks: {root: {size: 10GiB}}
    ports:
      ssh: {machine: 22}           # a host port is chosen, and stays
`},
	{"web", "A web server", `    resources: {cpus: 1, memory: 1GiB}
    disks: {root: {size: 10GiB}}
    ports:
      site: {host: 8080, machine: 80}
      ssh: {machine: 22}           # a host port is chosen, and stays
    first_boot:
      packages: [nginx]
      files:
        /var/www/html/index.html: {text: "It works.\n"}
      services: [nginx]
`},
	{"database", "A database server", `    resources: {cpus: 2, memory: 2GiB}
    disks:
      root: {size: 10GiB}
      data:                        # formatted once, and never again
        size: 20GiB
        filesystem: ext4
        mount: /var/lib/postgresql
        keep: true
    ports:
      database: {host: 5432, machine: 5432}     # reached from this host alone
      ssh: {machine: 22}
    first_boot:
      packages: [postgresql]
      services: [postgresql]
`},
	{"desktop", "A desktop", `    resources: {cpus: 2, memory: 4GiB}
    disks: {root: {size: 30GiB}}
    ports:
      ssh: {machine: 22}
    console: {kind: graphical, resolution: 1920x1080}
    firmware: {kind: uefi}
    first_boot:
      upgrade: true
      packages: [xfce4, lightdm]
`},
}

// Purposes returns the purposes that a definition can be made for.
func Purposes() []string {
	names := make([]string, len(purposes))
	for i, p := range purposes {
		names[i] = p.name
	}
	return names
}

// ErrUnknownPurpose reports a purpose that isn't in the list.
var ErrUnknownPurpose = errors.New("unknown purpose")

const page = `# {{.About}}. Change what does not fit, then:
#   stavren check {{.Name}}.stavren.yaml
#   stavren show {{.Name}}.stavren.yaml          every value, with its default
#   stavren render qemu {{.Name}}.stavren.yaml -o out
stavren: 1
fleet: {{.Name}}

images:
  debian:
    os: debian-12
    file: images/debian-12-generic-amd64.qcow2     # put the cloud image there
{{if .Key}}
keys:
  mine: {text: {{.Key}}}
{{else}}
# keys:                            # without a key nobody can log in
#   mine: {file: id_ed25519.pub}
{{end}}
machines:
  {{.Name}}:
    image: debian
{{.Machine}}{{if .Key}}    users:
      admin: {admin: without-password, keys: [mine]}
{{else}}    # users:
    #   admin: {admin: without-password, keys: [mine]}
{{end}}`

// Definition returns a definition of one machine for a purpose. publicKey is a public
// SSH key on one line, or empty.
func Definition(name, purposeName, publicKey string) (string, error) {
	at := slices.IndexFunc(purposes, func(p purpose) bool { return p.name == purposeName })
	if at < 0 {
		return "", fmt.Errorf("%w %q", ErrUnknownPurpose, purposeName)
	}
	if !isLabel(name) {
		return "", fmt.Errorf("%q cannot be the name of a machine: write a to z, digits and hyphens", name)
	}
	if strings.ContainsAny(publicKey, "\n\r") {
		return "", errors.New("the key has more than one line; name the public half, a file that ends in .pub")
	}
	key := ""
	if publicKey != "" {
		key = strconv.QuoteToASCII(publicKey)
	}
	var text bytes.Buffer
	err := template.Must(template.New("definition").Parse(page)).Execute(&text, map[string]string{
		"Name": name, "About": purposes[at].about, "Machine": purposes[at].machine, "Key": key,
	})
	return text.String(), err
}

func isLabel(name string) bool {
	return name != "" && len(name) <= 63 && strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789-") == "" &&
		!strings.HasPrefix(name, "-") && !strings.HasSuffix(name, "-")
}
