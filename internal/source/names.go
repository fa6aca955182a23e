package source

import (
	"path"
	"regexp"
	"strings"
)

// nameRule says how to mend a name, or returns "" for a good one.
type nameRule func(name string) (remedy string)

// label accepts DNS labels (RFC 1123, 2.1): they become host names, file names
// and the names of resources.
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

// isLabel is written out, since every name of a fleet passes through it.
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

// fixLabel turns "Tide Office" or "web_1" into a name that would do.
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

// userName accepts what every supported system takes as a login: the form of
// useradd(8), at most 32 bytes.
func userName(name string) string {
	if userPattern.MatchString(name) {
		return ""
	}
	return "names of users and groups start with a letter or _, hold a to z, digits, _ and -, and have at most 32 characters"
}

var userPattern = regexp.MustCompile(`^[a-z_][a-z0-9_-]{0,31}$`)

// packageName accepts the characters that package managers use in names, with
// a version behind = or a group before @. A leading hyphen would be an option.
func packageName(name string) string {
	if packagePattern.MatchString(name) {
		return ""
	}
	return "package names hold letters, digits and . _ + : = ~ @ / -, and do not start with a hyphen"
}

var packagePattern = regexp.MustCompile(`^[A-Za-z0-9@][A-Za-z0-9._+:=~@/-]*$`)

// targetName accepts what may be the name of a target, built in or a program's own.
func targetName(name string) string { return label(name) }

// insidePath accepts absolute, clean paths inside a machine.
func insidePath(name string) string {
	switch {
	case strings.ContainsRune(name, 0) || len(name) > 4095:
		return "write a path of at most 4095 bytes"
	case !strings.HasPrefix(name, "/"):
		return "write the whole path, from / on"
	case path.Clean(name) != name:
		return "write it without . .. or doubled slashes: " + path.Clean(name)
	case name == "/":
		return "write a path below /"
	}
	return ""
}

// accountWord fits one field of /etc/passwd.
func accountWord(text string) string {
	if fault := oneLine(text); fault != "" {
		return fault
	}
	if strings.Contains(text, ":") {
		return "holds a colon, which divides the fields of the account file"
	}
	return ""
}

// shortText accepts what platforms take as the name of a size or a setting.
func shortText(name string) string {
	if name == "" || len(name) > 128 || oneLine(name) != "" {
		return "write one line of at most 128 bytes"
	}
	return ""
}

// labelKey accepts what every platform can carry as a label's name in some form.
func labelKey(name string) string {
	if labelKeyPattern.MatchString(name) {
		return ""
	}
	return "names of labels start with a letter, hold letters, digits and . _ / -, and have at most 63 characters"
}

var labelKeyPattern = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9._/-]{0,62}$`)

// serviceName accepts names of services, with or without systemd's endings.
func serviceName(name string) string {
	if servicePattern.MatchString(name) {
		return ""
	}
	return "names of services hold letters, digits and . _ @ : -, and do not start with a hyphen"
}

var servicePattern = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9._@:-]*$`)

// serverName accepts a host by DNS name or address.
func serverName(name string) string {
	if serverPattern.MatchString(name) && len(name) <= 253 {
		return ""
	}
	return "write a DNS name such as ntp.skerry.example, or an address"
}

var serverPattern = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9.:-]*[A-Za-z0-9])?$`)

// mountOption accepts one option of mount(8).
func mountOption(name string) string {
	if mountPattern.MatchString(name) {
		return ""
	}
	return "write one option of mount(8) each, such as noatime or commit=30"
}

var mountPattern = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_.:/=+-]*$`)
