package bounds

import (
	"fmt"
	"strconv"
	"strings"
)

// attack is a definition of at most a megabyte, or one that a few bytes blow up.
type attack struct{ name, text string }

const (
	head    = "stavren: 1\nfleet: x\nimages: {i: {os: debian-12}}\n"
	machine = head + "machines:\n  a: {image: i, "
)

// many writes a part n times, with its number in place of every #.
func many(n int, part string) string {
	var text strings.Builder
	for i := range n {
		text.WriteString(strings.ReplaceAll(part, "#", strconv.Itoa(i)))
	}
	return text.String()
}

// script is a machine with a first-boot script.
func script(shell, text string) string {
	return machine + "first_boot: {scripts: {s: {text: " + fmt.Sprintf("%q", "#!/bin/"+shell+"\n"+text) + "}}}}\n"
}

// attacks lists what once took minutes or gigabytes, and its kin.
func attacks() []attack {
	list := []attack{
		{"a thousand copies of thirty auto ports", machine + "copies: 1000, ports: {" +
			many(30, "p#: {host: auto, machine: 1},") + "}}\n"},
		{"copies with ports", head + "machines: {" + many(20, "m#: {image: i, copies: 1000, "+
			"ports: {p: {host: auto, machine: 22}, q: {host: 8000, machine: 80}}},") + "}\n"},
		{"unknown kits", machine + "kits: [" + many(990, "k#,") + "]}\nkits: {" + many(9000, "j#: {},") + "}\n"},
		{"a chain of kits", head + "kits: {k9000: {}, " + many(9000, "k#: {kits: [k#1]},") + "}\n" +
			"machines: {a: {image: i, kits: [k0]}}\n"},
		{"a ladder of kits", head + "kits: {l0: {}, " + many(30, "l#1: {kits: [l#, m#]}, m#: {kits: [l#]},") +
			"}\nmachines: {a: {image: i, kits: [l291]}}\n"},
		{"users of copies", head + "kits: {u: {users: {" + many(300, "u#: {},") + "}}}\nmachines: {" +
			many(20, "m#: {image: i, kits: [u], copies: 1000},") + "}\n"},
		{"unknown images", "stavren: 1\nfleet: x\nimages: {" + many(9000, "i#: {os: debian-12},") + "}\nmachines:\n" +
			many(19000, "  m#: {image: j#}\n")},
		{"unknown rules of copies", machine + "copies: 1000, accept: {" + many(150, "r#: x,") + "}}\n"},
		{"networks in one another", head + "networks: {" + many(9000, "n#: {subnet: 10.0.0.0/24},") +
			"}\nmachines: {a: {image: i}}\n"},
		{"machines on one line", head + "machines: {" + many(19000, "m#: {image: i},") + "}\n"},
		{"machines", head + "machines:\n" + many(19000, "  m#: {image: i}\n")},
		{"a long name", "stavren: 1\nfleet: " + strings.Repeat("x", 1e6) + "\n"},
		{"a long key", "stavren: 1\nfleet: x\n" + strings.Repeat("x", 1e6) + ": 1\n"},
		{"quotes", "x: [" + strings.Repeat(`""`, 5e5)},
		{"questions", strings.Repeat("? ", 5e5)}, {"dashes", strings.Repeat("- ", 5e5)},
		{"bars", "x: [" + strings.Repeat("|\n", 3e5)}, {"anchors", "x: [" + strings.Repeat("&a ", 3e5)},
		{"exports", script("sh", strings.Repeat("export A=1; apt-get install x\n", 30000))},
		{"different exports", script("sh", many(25000, "export A#=1; apt-get install x\n"))},
		{"commands", script("sh", strings.Repeat("a\n", 4e5))},
		{"PowerShell", strings.ReplaceAll(script("sh", strings.Repeat("$(", 4e5)), "debian-12", "windows-server-2022")},
		{"filled texts", head + "machines: {" + many(1000, "m#: {image: i, first_boot: {files: {/f: {fill: true, "+
			"text: '{{range machines}}{{.}} {{machine . `cpus`}}{{end}}'}}}},") + "}\n"},
	}
	for _, open := range []string{
		"$(", "(", "{ ", "if ", "${a:-", "$((", `"$(`, "time ", "! ", "`", "case x in x) ", "while ", "<(", "f() ", "[[ ",
		"cat <<E\n", "a && ", "a | ", "(a || ", "$", "a=(", "[[ ! ", "$(( (", "$((a?", "$((-", "if a; then b; elif ",
		`\`, "let ", "coproc ", "select x in ", `"${a:-"`, "$((1+", "echo a{b,", "for a in ", "until ", "a; ", "a & ",
	} {
		for _, shell := range []string{"sh", "bash"} {
			list = append(list, attack{shell + " " + open, script(shell, strings.Repeat(open, 900000/len(open)))})
		}
	}
	return list
}

// sweeps give every list and map of the language a hundred thousand entries, and every
// text a megabyte.
func sweeps() []attack {
	var list []attack
	for _, key := range keys() {
		switch {
		case strings.HasPrefix(key.Type, "list"):
			list = append(list, attack{key.Path + " of 100000", nest(key.Path, "["+many(1e5, "e#, ")+"]")},
				attack{key.Path + " of 990", nest(key.Path, "["+many(990, "e#, ")+"]")})
		case strings.HasPrefix(key.Type, "map"):
			list = append(list, attack{key.Path + " of 100000", nest(key.Path, "{"+many(1e5, "e#: {}, ")+"}")},
				attack{key.Path + " of 990", nest(key.Path, "{"+many(990, "e#: {}, ")+"}")})
		default:
			list = append(list, attack{key.Path + " of a megabyte", nest(key.Path, strings.Repeat("x", 1e6))},
				attack{key.Path + " of many digits", nest(key.Path, strings.Repeat("9", 1e6))})
		}
	}
	return list
}

// nest writes a value at a path, on a line of its own.
func nest(path, value string) string {
	text := value
	words := strings.Split(path, ".")
	for i := len(words) - 1; i > 0; i-- {
		word := words[i]
		if word == "NAME" {
			word = "a"
		}
		text = "{" + word + ": " + text + "}"
	}
	top := words[0] + ": " + text + "\n"
	if words[0] != "images" {
		top += "images: {i: {os: debian-12}}\n"
	}
	if words[0] == "stavren" || words[0] == "fleet" {
		return top
	}
	return "stavren: 1\nfleet: x\n" + top
}
