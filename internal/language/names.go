package language

import (
	"path"
	"regexp"
	"strings"
	"sync"
	"unicode"

	"stavren.example/stavren/internal/document"
)

// pattern returns a function that reports whether a text matches a regular
// expression, which is compiled when it is first needed.
func pattern(expression string) func(text string) bool {
	compiled := sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expression) })
	return func(text string) bool { return compiled().MatchString(text) }
}

// checkName reports a key that can't be the name of a noun.
func (r *Reader) checkName(e document.Layer, rule nameRule, what string) {
	if remedy := rule(e.Name()); remedy != "" {
		r.Add(document.BadName, e.AtKey(), quoted(e.Name())+" cannot be the name of "+what, remedy)
	}
}

// CheckMachineName reports the key of a layer if it can't be the name of a machine.
func (r *Reader) CheckMachineName(e document.Layer) {
	r.Enter(e.Name())
	r.checkName(e, label, "a machine")
	r.Leave()
}

// nameRule says how to correct a name, or returns "" for a valid one.
type nameRule func(name string) (remedy string)

// label accepts DNS labels (RFC 1123, 2.1), since names become host names, file names
// and resource names.
func label(name string) string {
	switch {
	case name == "":
		return "write a name"
	case len(name) > 63:
		return "names have at most 63 characters"
	case isLabel(name):
		return ""
	}
	remedy := "names have the letters a to z, digits and hyphens, and start and end with a letter or digit"
	if fixed := fixLabel(name); fixed != "" {
		remedy += "; write " + fixed
	}
	return remedy
}

// isLabel needs no regular expression, since it checks every name of a fleet.
func isLabel(name string) bool {
	for i := range len(name) {
		c := name[i]
		inner := c == '-' && i > 0 && i < len(name)-1
		if !inner && (c < 'a' || c > 'z') && (c < '0' || c > '9') {
			return false
		}
	}
	return name != ""
}

// fixLabel turns "Tide Office" or "web_1" into a valid name, or returns "".
func fixLabel(name string) string {
	fixed := strings.Trim(strings.NewReplacer("_", "-", " ", "-", ".", "-").Replace(strings.ToLower(name)), "-")
	if isLabel(fixed) && len(fixed) <= 63 {
		return fixed
	}
	return ""
}

// domain accepts dotted DNS names.
func domain(name string) string {
	if len(name) > 253 {
		return "domain names have at most 253 characters"
	}
	for _, part := range strings.Split(name, ".") {
		if remedy := label(part); remedy != "" {
			return "write labels of a to z, digits and hyphens with dots between, such as skerry.example"
		}
	}
	return ""
}

// userName accepts logins that every supported system takes: the form of useradd(8),
// with at most 32 bytes.
func userName(name string) string {
	if userPattern(name) {
		return ""
	}
	return "names of users and groups start with a letter or _, contain only a to z, digits, _ and -, and have at " +
		"most 32 characters"
}

var userPattern = pattern(`^[a-z_][a-z0-9_-]{0,31}$`)

// packageName accepts the characters that package managers use in names, followed by
// = and a version, or starting with @ for a group. A leading hyphen would be an
// option.
func packageName(name string) string {
	if packagePattern(name) {
		return ""
	}
	return "package names contain only letters, digits and . _ + : = ~ @ / -, and do not start with a hyphen"
}

var packagePattern = pattern(`^[A-Za-z0-9@][A-Za-z0-9._+:=~@/-]*$`)

// targetName accepts the name of any target, built in or not.
func targetName(name string) string { return label(name) }

// insidePath accepts absolute, clean paths inside a machine.
func insidePath(name string) string {
	switch {
	case len(name) > 4095:
		return "write a path of at most 4095 bytes"
	case strings.ContainsFunc(name, unicode.IsControl):
		return "write a path without control characters"
	case !strings.HasPrefix(name, "/"):
		return "write the whole path, starting with /"
	case path.Clean(name) != name:
		return "write it without . .. or doubled slashes: " + path.Clean(name)
	case name == "/":
		return "write a path below /"
	}
	return ""
}

// mountPoint accepts paths that stand in one field of fstab(5).
func mountPoint(name string) string {
	if strings.ContainsFunc(name, unicode.IsSpace) || strings.Contains(name, `\`) {
		return "write a path without spaces and backslashes, which the table of mounts can't hold everywhere"
	}
	return insidePath(name)
}

// accountPath accepts paths that fit in one field of /etc/passwd.
func accountPath(name string) string {
	if strings.Contains(name, ":") {
		return "write a path without a colon, which separates the fields of the account file"
	}
	return insidePath(name)
}

// accountWord accepts what fits in one field of /etc/passwd.
func accountWord(text string) string {
	if fault := oneLine(text); fault != "" {
		return fault
	}
	if strings.Contains(text, ":") {
		return "contains a colon, which separates the fields of the account file"
	}
	return ""
}

// shortText accepts names of sizes and settings on platforms.
func shortText(name string) string {
	if name == "" || len(name) > 128 || oneLine(name) != "" {
		return "write one line of at most 128 bytes"
	}
	return ""
}

// labelKey accepts names of labels that every platform can represent in some form.
func labelKey(name string) string {
	if labelKeyPattern(name) {
		return ""
	}
	return "names of labels start with a letter, contain only letters, digits and . _ / -, and have at most 63 " +
		"characters"
}

var labelKeyPattern = pattern(`^[A-Za-z][A-Za-z0-9._/-]{0,62}$`)

// serviceName accepts names of services, with or without systemd's endings.
func serviceName(name string) string {
	if servicePattern(name) {
		return ""
	}
	return "names of services contain only letters, digits and . _ @ : -, and do not start with a hyphen"
}

var servicePattern = pattern(`^[A-Za-z0-9_][A-Za-z0-9._@:-]*$`)

// serverName accepts the DNS name or address of a host.
func serverName(name string) string {
	if serverPattern(name) && len(name) <= 253 {
		return ""
	}
	return "write a DNS name such as ntp.skerry.example, or an address"
}

var serverPattern = pattern(`^[A-Za-z0-9]([A-Za-z0-9.:-]*[A-Za-z0-9])?$`)

// mountOption accepts one option of mount(8).
func mountOption(name string) string {
	if mountPattern(name) {
		return ""
	}
	return "write one option of mount(8) per entry, such as noatime or commit=30"
}

var mountPattern = pattern(`^[A-Za-z][A-Za-z0-9_.:/=+-]*$`)
