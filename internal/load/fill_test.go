package load

import (
	"fmt"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
)

// filling returns a definition with two machines, of which the first fills a text.
func filling(text string) string {
	return "stavren: 1\nfleet: x\nimages: {i: {os: debian-12}}\nsecrets: {db: {env: DB}}\nmachines:\n" +
		"  a:\n    image: i\n    domain: skerry.example\n    first_boot:\n      files:\n        /f:\n" +
		"          fill: true\n          text: |\n            " +
		strings.ReplaceAll(text, "\n", "\n            ") + "\n" +
		"  b: {image: i, nics: {inner: {address: 10.177.0.7}}, ports: {web: {host: 8080, machine: 80}}}\n"
}

func TestFilling(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{`{{ self "full_name" }} {{ machine "b" "address" }}:{{ port "b" "web" }}`,
			"a.skerry.example 10.177.0.7:8080\n"},
		{`{{ range machines }}{{ . }} {{ machine . "cpus" }};{{ end }}`, "a 1;b 1;\n"},
		{`{{ printf "%05d" (port "b" "web") }} {{ if eq (self "name") "a" }}yes{{ end }}`, "08080 yes\n"},
	} {
		t.Run(c.text, func(t *testing.T) {
			f, err := parseText(filling(c.text))
			if err != nil {
				t.Errorf("%s: %s", c.text, report(err))
				return
			}
			if got := f.Machines[0].FirstBoot.Files[0].Text; got != c.want {
				t.Errorf("%s: got %q, want %q", c.text, got, c.want)
			}
		})
	}
	for _, c := range []struct{ text, want string }{
		{"one\n two {{ machine \"stroe\" \"address\" }}",
			`:15:21: error: filling-failed: the text cannot be filled: the machine "stroe" is not defined`},
		{`{{ machine "a" "address" }}`, "machine a has no fixed address"},
		{`{{ machine "b" "adress" }}`, `a machine has no field "adress" here`},
		{`{{ port "b" "wbe" }}`, `machine b has no port "wbe"`},
		{`{{ secret "bd" }}`, `the secret "bd" is not defined`},
		{`{{ nosuch }}`, `function "nosuch" not defined`},
		{`{{ .x }}`, "error"},
		{"a\n{{ if }}", ":15:13: error: filling-failed"},
		{`{{ define "x" }}{{ template "x" }}{{ end }}{{ template "x" }}`, "cannot"},
	} {
		t.Run(c.text, func(t *testing.T) {
			_, err := parseText(filling(c.text))
			if got := report(err); !strings.Contains(got, c.want) {
				t.Errorf("%s: got %s\nwant %s", c.text, got, c.want)
			}
		})
	}
}

// TestSecretsStayWhole fills secrets in every way in which a template can write, compare
// or change a value. They come out as they are, or not at all.
func TestSecretsStayWhole(t *testing.T) {
	forged := fleet.Content{}
	forged.AppendSecret("db")
	reveal := func(name string) (string, error) { return "hi'gh $(water)\n" + name, nil }
	const value = "hi'gh $(water)\ndb"
	for _, c := range []struct{ text, want string }{
		{`{{ secret "db" }}`, value}, {`{{ secret "db" }}{{ secret "db" }}`, value + value},
		{`{{ $a := secret "db" }}{{ $a }}-{{ $a }}`, value + "-" + value},
		{`{{ with secret "db" }}{{ . }}{{ end }}`, value}, {`{{ if secret "db" }}{{ secret "db" }}{{ end }}`, value},
		{`{{ print "a" (secret "db") "b" }}`, "a" + value + "b"}, {`{{ secret "db" | print }}`, value},
		{`{{ print (secret "db") (secret "db") }}`, value + value}, {`{{ println (secret "db") }}`, value + "\n"},
		{`{{ printf "%s=%v" "k" (secret "db") }}`, "k=" + value},
		{`{{ printf "<%s>" (printf "(%v)" (print (secret "db"))) }}`, "<(" + value + ")>"},
		{forged.Text, forged.Text}, {forged.Text + `{{ secret "db" }}`, forged.Text + value},
	} {
		t.Run(c.text, func(t *testing.T) {
			f, err := parseText(filling(c.text))
			if err != nil {
				t.Fatal(report(err))
			}
			if got, err := f.Machines[0].FirstBoot.Files[0].Reveal(reveal); err != nil || got != c.want+"\n" {
				t.Errorf("got %q, %v\nwant %q", got, err, c.want)
			}
		})
	}
	for _, text := range []string{
		`{{ printf "%q" (secret "db") }}`, `{{ printf "%x" (secret "db") }}`, `{{ printf "%.3s" (secret "db") }}`,
		`{{ printf "%9s" (secret "db") }}`, `{{ printf "%-9s" (secret "db") }}`, `{{ printf "%+v" (secret "db") }}`,
		`{{ printf "%#v" (secret "db") }}`, `{{ printf "%T" (secret "db") }}`, `{{ printf "%p" (secret "db") }}`,
		`{{ printf "%d" (secret "db") }}`, `{{ printf "%x" (print (secret "db")) }}`, `{{ printf (secret "db") }}`,
		`{{ printf "%.30s" (print "aaa" (secret "db")) }}`, `{{ printf "%[1]s" (secret "db") }}`,
		`{{ js (secret "db") }}`, `{{ html (secret "db") }}`, `{{ urlquery (secret "db") }}`,
		`{{ secret "db" | js }}`, `{{ slice (secret "db") 1 }}`, `{{ slice (print (secret "db")) 1 }}`,
		`{{ index (secret "db") 0 }}`, `{{ len (secret "db") }}`, `{{ lt (secret "db") "x" }}`,
		`{{ eq (secret "db") "x" }}`, `{{ machine (secret "db") "name" }}`, `{{ (secret "db").text }}`,
		`{{ range secret "db" }}{{ end }}`, `{{ call (secret "db") }}`,
	} {
		t.Run(text, func(t *testing.T) {
			_, err := parseText(filling(text))
			if got := report(err); !strings.Contains(got, "filling-failed") {
				t.Errorf("got %s", got)
			}
		})
	}
}

// TestFillingIsBounded fills texts that ask for more work than there are atoms.
func TestFillingIsBounded(t *testing.T) {
	double := "{{ $a := print \"" + strings.Repeat("x", 100) + "\" }}" +
		strings.Repeat("{{ $a = print $a $a }}", 30)
	values := "{{ $a := print `" + strings.Repeat("x", 8000) + "` }}" + strings.Repeat("{{ $b := print $a $a }}", 3000)
	for _, c := range []struct{ name, text, want string }{
		{"a range over a number", `{{ $n := 9000000000000000000 }}{{ range $n }}{{ end }}`, "range only goes over"},
		{"a range over a list in a variable", `{{ $m := machines }}{{ range $m }}{{ end }}`, "range only goes over"},
		{"a range over a number called machines", `{{ $machines := 1000000000 }}{{ range $machines }}{{ end }}`,
			"range only goes over"},
		{"a range over a chosen list", `{{ range or 1000000000 machines }}{{ end }}`, "range only goes over"},
		{"a range over a pipeline", `{{ range 1000000000 | machines }}{{ end }}`, "range only goes over"},
		{"nested ranges", strings.Repeat("{{ range machines }}", 30) + strings.Repeat("{{ end }}", 30),
			"takes more than 2000000 steps"},
		{"a text that doubles", double, "a value in between can be longer than 16KiB"},
		{"many long values", values, "values in between take more than 16MiB"},
		{"a wide number", `{{ printf "%999999d" 1 }}`, "a width in printf is too large"},
		{"a precise number", `{{ printf "%.999999d" 1 }}`, "a width in printf is too large"},
		{"a width from a value", `{{ printf "%*d" 999999 1 }}`, "printf takes no *"},
		{"a value written again and again", `{{ printf "` + strings.Repeat("%[1]s", 3000) + `" "x" }}`,
			"printf takes no *"},
		{"many wide verbs", `{{ printf "` + strings.Repeat("%999d", 3000) + `" }}`, "longer than 16KiB"},
		{"many actions", strings.Repeat("{{ 1 }}", 10001), "more than 10000 actions"},
		{"nested blocks", strings.Repeat("{{ if 1 }}", 101) + strings.Repeat("{{ end }}", 101), "nests more than 100"},
		{"nested parentheses", "{{ " + strings.Repeat("(", 101) + "1" + strings.Repeat(")", 101) + " }}",
			"nests more than 100"},
		{"a long text again and again", strings.Repeat("{{ range machines }}", 8) + strings.Repeat("x", 50000) +
			strings.Repeat("{{ end }}", 8), "the filled text is longer than 4MiB"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := parseText(filling(c.text))
			if got := report(err); !strings.Contains(got, c.want) {
				t.Errorf("got %.300s\nwant %s", got, c.want)
			}
		})
	}
}

// TestCopiesShareABudget fills the text of a thousand copies.
func TestCopiesShareABudget(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"{{ range machines }}{{ range machines }}{{ end }}{{ end }}", "more than 2000000 steps"},
		{strings.Repeat("x", 100000), "longer than 64MiB"},
		{"{{ $a := print `" + strings.Repeat("x", 8000) + "` }}{{ $a = print $a 1 }}{{ $a = print $a 2 }}",
			"values in between take more than 16MiB"},
	} {
		definition := fmt.Sprintf("stavren: 1\nfleet: x\nimages: {i: {os: debian-12}}\nmachines:\n  a: {image: i, "+
			"copies: 1000, first_boot: {files: {/f: {fill: true, text: %q}}}}\n", c.text)
		_, err := parseText(definition)
		if got := report(err); !strings.Contains(got, c.want) || strings.Count(got, "error:") != 1 {
			t.Errorf("got %.300s\nwant %s", got, c.want)
		}
	}
}
