// Package rulebook reads the documentation of rules. Each rule has a folder of
// its own: why.md says why the rule exists, wrong.stavren.yaml breaks it and
// right.stavren.yaml keeps it. Where code and text share a fact, such as a range
// of ports, the text has its name in braces, and the code supplies the value.
package rulebook

import (
	"io/fs"
	"path"
	"strings"

	"stavren.example/stavren/finding"
)

// Names of the files in a rule's folder. The examples are optional.
const (
	whyFile   = "why.md"
	wrongFile = "wrong.stavren.yaml"
	rightFile = "right.stavren.yaml"
)

// Read completes a rule with the documentation in its folder below parent. Facts
// lists names and values in turn, as [strings.NewReplacer] takes them. A file that
// is missing leaves its field empty; tests of the rules fail on that.
func Read(files fs.FS, parent string, rule finding.Rule, facts *strings.Replacer) finding.Rule {
	read := func(name string) string {
		data, err := fs.ReadFile(files, path.Join(parent, rule.Name, name))
		if err != nil {
			return ""
		}
		return string(data)
	}
	why := strings.Join(strings.Fields(read(whyFile)), " ")
	if facts != nil {
		why = facts.Replace(why)
	}
	rule.Why, rule.Wrong, rule.Right = why, read(wrongFile), read(rightFile)
	return rule
}
