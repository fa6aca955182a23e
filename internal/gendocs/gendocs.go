// Package gendocs generates parts of the documentation from the code: the keys of the
// language, the rule book, and what becomes of each field in each target. A test
// fails if the files in docs differ.
package gendocs

import (
	"fmt"
	"regexp"
	"strings"

	"stavren.example/stavren"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/load"
	clouds "stavren.example/stavren/internal/targets"
	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/render"
)

// Marks around the generated part of a page that people write otherwise.
const (
	Begin = "<!-- generated: go test ./internal/gendocs -update -->\n"
	End   = "<!-- end of the generated part -->\n"
)

// Keys documents every key of the language, with one table per map.
func Keys() string {
	var groups []string
	rows := map[string][]string{}
	for _, key := range stavren.LanguageKeys() {
		group, name := "", key.Path
		if at := strings.LastIndex(key.Path, "."); at >= 0 {
			group, name = key.Path[:at], key.Path[at+1:]
		}
		if rows[group] == nil {
			groups = append(groups, group)
		}
		byDefault := key.Default
		if key.Required {
			byDefault = "required"
		}
		rows[group] = append(rows[group], fmt.Sprintf("| `%s` | %s | %s | %s | `%s` |\n",
			name, cell(key.Doc), cell(key.Type), cell(byDefault), cell(key.Example)))
	}
	var text strings.Builder
	for _, group := range groups {
		title := "`" + group + "`"
		if group == "" {
			title = "The top of a file"
		}
		fmt.Fprintf(&text, "\n### %s\n\n| key | meaning | value | default | example |\n"+
			"| --- | --- | --- | --- | --- |\n%s", title, strings.Join(rows[group], ""))
	}
	return text.String()[1:]
}

// fact matches a value in a page that comes from the code.
const fact = `<!-- fact: ([a-z ]+) -->[^<]*<!-- end -->`

// Facts writes values from the code into the places of a page that name them.
func Facts(page string) (string, error) {
	facts := map[string]string{
		"auto ports":  fmt.Sprintf("%d and %d", fleet.FirstAutoPort, fleet.LastAutoPort),
		"fill fields": "`" + strings.Join(load.FillFields(), "`, `") + "`",
	}
	place := regexp.MustCompile(fact)
	for _, match := range place.FindAllStringSubmatch(page, -1) {
		if facts[match[1]] == "" {
			return "", fmt.Errorf("the page asks for the unknown fact %q", match[1])
		}
	}
	return place.ReplaceAllStringFunc(page, func(text string) string {
		name := place.FindStringSubmatch(text)[1]
		return "<!-- fact: " + name + " -->" + facts[name] + "<!-- end -->"
	}), nil
}

func cell(text string) string { return strings.ReplaceAll(text, "|", `\|`) }

// Rules returns the rule book.
func Rules() string {
	var text strings.Builder
	text.WriteString("# Rule book\n\nGenerated from the rules: `go test ./internal/gendocs -update`. " +
		"`stavren rules NAME` prints one of them.\n\n")
	text.WriteString("An error can't work. A warning is likely to cause trouble. Advice points to a better way.\n")
	theme := ""
	for _, rule := range stavren.Rules() {
		if rule.Theme != theme {
			theme = rule.Theme
			fmt.Fprintf(&text, "\n## %s%s\n", strings.ToUpper(theme[:1]), theme[1:])
		}
		fmt.Fprintf(&text, "\n### %s\n\n*%s.* %s\n", rule.Name, rule.Severity, rule.Why)
		for _, part := range []struct{ title, example string }{{"Wrong", rule.Wrong}, {"Right", rule.Right}} {
			if part.example != "" {
				fmt.Fprintf(&text, "\n%s:\n\n```yaml\n%s```\n", part.title, part.example)
			}
		}
	}
	return text.String()
}

// Targets returns the list of targets and what becomes of each field in each.
func Targets() string {
	var text strings.Builder
	text.WriteString("# Targets\n\nGenerated from the renderers: `go test ./internal/gendocs -update`.\n\n")
	text.WriteString("Each target carries a field of a definition as it is, **adapts** it, or **leaves it out**. " +
		"`stavren render` reports every value that a target had to change or drop.\n\n")
	targets := stavren.Targets()
	text.WriteString("| target | output | files |\n| --- | --- | --- |\n")
	for _, target := range targets {
		fmt.Fprintf(&text, "| `%s` | %s | `%s` |\n", target.Name, target.Summary, strings.Join(target.Writes, "`, `"))
	}
	text.WriteString("\n## Settings of clouds\n\nA definition gives them under `platforms`. Those that aren't keys " +
		"of the " +
		"language go under `settings`.\n\n| cloud | setting | meaning |\n| --- | --- | --- |\n")
	for _, target := range clouds.Clouds() {
		for _, setting := range target.Cloud.Settings {
			fmt.Fprintf(&text, "| `%s` | `%s` | %s |\n", target.Name, setting.Key, cell(setting.What))
		}
	}
	text.WriteString("\n## Words of clouds\n\nUnder `platforms`, `ids` and `limits`, platforms have the names of " +
		"targets. Another name is an error, unless it begins with `x-` and so belongs to another program.\n\n" +
		"| cloud | platform | an image in `ids` |\n| --- | --- | --- |\n")
	for _, target := range clouds.Clouds() {
		fmt.Fprintf(&text, "| `%s` | %s | `%s` |\n", target.Name, target.Cloud.Title, target.Cloud.ImageID)
	}
	text.WriteString("\n## Settings of hypervisors\n\nA definition gives them under `platforms.TARGET.settings`.\n\n" +
		"| targets | setting | meaning |\n| --- | --- | --- |\n")
	for _, setting := range hypervisor.Settings() {
		fmt.Fprintf(&text, "| `%s` | `%s` | %s |\n", strings.Join(setting.Targets, "`, `"), setting.Key, cell(setting.What))
	}
	text.WriteString("\n## Fates\n\n| field |")
	for _, target := range targets {
		fmt.Fprintf(&text, " %s |", target.Name)
	}
	text.WriteString("\n| --- |" + strings.Repeat(" --- |", len(targets)) + "\n")
	for _, field := range render.Fields() {
		fmt.Fprintf(&text, "| `%s` |", field)
		for _, target := range targets {
			fmt.Fprintf(&text, " %s |", fate(target, field).Outcome)
		}
		text.WriteString("\n")
	}
	for _, target := range targets {
		fmt.Fprintf(&text, "\n## What %s adapts or leaves out\n\n", target.Name)
		for _, field := range render.Fields() {
			if f := fate(target, field); f.Outcome != render.Carried {
				fmt.Fprintf(&text, "- `%s` is %s: %s.\n", field, f.Outcome, f.How)
			}
		}
	}
	return text.String()
}

func fate(target render.Target, field string) render.Fate {
	for _, fate := range target.Fates() {
		if fate.Field == field {
			return fate
		}
	}
	return render.Fate{}
}

// Splice puts generated text between the marks of a page.
func Splice(page, generated string) (string, error) {
	before, rest, begins := strings.Cut(page, Begin)
	_, after, ends := strings.Cut(rest, End)
	if !begins || !ends {
		return "", fmt.Errorf("the page lacks the marks of its generated part")
	}
	return before + Begin + "\n" + generated + "\n" + End + after, nil
}

// Systems returns the built-in list of operating systems.
func Systems() string {
	var text strings.Builder
	text.WriteString("# Operating systems\n\nGenerated from the built-in list: `go test ./internal/gendocs " +
		"-update`. Write one of these names as the `os` of an image, or define your own under `systems`.\n\n")
	text.WriteString("| name | system | package manager | service manager | administrators' group | default login | " +
		"minimum memory | minimum disk | supported until |\n| --- | --- | --- | --- | --- | --- | --- | --- | --- |\n")
	for _, system := range catalog.Systems() {
		until := "rolling"
		if !system.EndOfLife.IsZero() {
			until = system.EndOfLife.Format("2006-01-02")
		}
		packages := system.Family.PackageManager
		if packages == "" {
			packages = "none"
		}
		fmt.Fprintf(&text, "| `%s` | %s | %s | %s | %s | %s | %v | %v | %s |\n", system.Name, system.Title, packages,
			system.Family.ServiceManager, system.Family.AdminGroup, system.Login, system.MinMemory, system.MinDisk,
			until)
	}
	return text.String()
}
