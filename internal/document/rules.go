package document

import (
	"embed"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/internal/rulebook"
)

// Rule names a rule of reading. Each has a folder below rules.
type Rule string

// The rules of reading, in the order of the rule book.
const (
	NotYAML          Rule = "not-yaml"
	EmptyFile        Rule = "empty-definition"
	TooLarge         Rule = "definition-too-large"
	MoreFaults       Rule = "more-faults"
	UnknownVersion   Rule = "unknown-version"
	UnknownKey       Rule = "unknown-key"
	RepeatedKey      Rule = "repeated-key"
	MissingKey       Rule = "missing-key"
	WrongType        Rule = "wrong-type"
	EmptyValue       Rule = "empty-value"
	MissingUnit      Rule = "missing-unit"
	OutOfRange       Rule = "out-of-range"
	BadValue         Rule = "bad-value"
	BadName          Rule = "bad-name"
	AliasOrTag       Rule = "alias-or-tag"
	NothingInherited Rule = "nothing-inherited"
	TextAndFile      Rule = "text-and-file"
	PathOutside      Rule = "path-outside-folder"
	FileUnreadable   Rule = "file-unreadable"
	Circle           Rule = "circle"
	UnknownKit       Rule = "unknown-kit"
	UnknownMachine   Rule = "unknown-machine"
	FillingFailed    Rule = "filling-failed"
)

func ruleNames() []Rule {
	return []Rule{
		NotYAML, EmptyFile, TooLarge, MoreFaults, UnknownVersion, UnknownKey, RepeatedKey, MissingKey, WrongType,
		EmptyValue, MissingUnit, OutOfRange, BadValue, BadName, AliasOrTag, NothingInherited, TextAndFile,
		PathOutside, FileUnreadable, Circle, UnknownKit, UnknownMachine, FillingFailed,
	}
}

//go:embed rules
var documentation embed.FS

// severity of every fault: nothing can be done with a definition that can't be read.
const severity = finding.Error

// Rules returns the rules of reading, for the rule book.
func Rules() []finding.Rule {
	var rules []finding.Rule
	for _, name := range ruleNames() {
		rule := finding.Rule{Name: string(name), Severity: severity, Theme: "reading"}
		rules = append(rules, rulebook.Read(documentation, "rules", rule, nil))
	}
	return rules
}
