package source

import "stavren.example/stavren/finding"

// The names of the reading rules.
const (
	ruleNotYAML          rule = "not-yaml"
	ruleEmptyFile        rule = "empty-definition"
	ruleTooLarge         rule = "definition-too-large"
	ruleTooManyFaults    rule = "more-faults"
	ruleUnknownVersion   rule = "unknown-version"
	ruleUnknownKey       rule = "unknown-key"
	ruleRepeatedKey      rule = "repeated-key"
	ruleMissingKey       rule = "missing-key"
	ruleWrongType        rule = "wrong-type"
	ruleEmptyValue       rule = "empty-value"
	ruleMissingUnit      rule = "missing-unit"
	ruleOutOfRange       rule = "out-of-range"
	ruleBadValue         rule = "bad-value"
	ruleBadName          rule = "bad-name"
	ruleAlias            rule = "alias-or-tag"
	ruleNothingInherited rule = "nothing-inherited"
	ruleBothContents     rule = "text-and-file"
	rulePathOutside      rule = "path-outside-folder"
	ruleFileUnreadable   rule = "file-unreadable"
	ruleCircle           rule = "circle"
	ruleUnknownKit       rule = "unknown-kit"
	ruleUnknownMachine   rule = "unknown-machine"
	ruleFilling          rule = "filling-failed"
)

const minimal = "stavren: 1\nfleet: tide-office\nimages:\n  bookworm: {os: debian-12, file: images/debian-12.qcow2}\n"

// Rules documents what can be wrong with the form of a definition. All are
// errors: a definition that cannot be read means nothing.
func Rules() []finding.Rule {
	rules := []finding.Rule{
		{Name: string(ruleNotYAML), Why: "The file is not YAML 1.2, so nothing can be read from it. Tabs used for indentation, an unclosed bracket and binary content are the usual causes.",
			Wrong: minimal + "machines:\n\talmanac: {image: bookworm}\n", Right: minimal + "machines:\n  almanac: {image: bookworm}\n"},
		{Name: string(ruleEmptyFile), Why: "An empty file is more likely a mistake in the path than a fleet of no machines.",
			Wrong: "# nothing here yet\n", Right: minimal},
		{Name: string(ruleTooLarge), Why: "Definitions are bounded in size, so that a wrong path such as a disk image ends in a clear error and not in a full memory."},
		{Name: string(ruleTooManyFaults), Why: "Only the first faults of a file are listed: many faults mostly have one cause near the top."},
		{Name: string(ruleUnknownVersion), Why: "A definition says which version of the language it is written in, so that its meaning never changes under it.",
			Wrong: "stavren: 9\nfleet: tide-office\n", Right: "stavren: 1\nfleet: tide-office\n"},
		{Name: string(ruleUnknownKey), Why: "A misspelt key would otherwise be ignored and its default be taken without a word.",
			Wrong: minimal + "machines:\n  almanac: {image: bookworm, resuorces: {cpus: 2}}\n", Right: minimal + "machines:\n  almanac: {image: bookworm, resources: {cpus: 2}}\n"},
		{Name: string(ruleRepeatedKey), Why: "Of two values under one key, one would be lost in silence.",
			Wrong: minimal + "machines:\n  almanac: {image: bookworm}\n  almanac: {image: bookworm}\n", Right: minimal + "machines:\n  almanac: {image: bookworm}\n  store: {image: bookworm}\n"},
		{Name: string(ruleMissingKey), Why: "The value has no default that would be right for everybody.",
			Wrong: minimal + "machines:\n  almanac: {resources: {cpus: 2}}\n", Right: minimal + "machines:\n  almanac: {image: bookworm, resources: {cpus: 2}}\n"},
		{Name: string(ruleWrongType), Why: "YAML guesses types: an unquoted number or yes/no word is not text. The reader does not guess with it.",
			Wrong: minimal + "machines:\n  almanac: {image: bookworm, resources: {cpus: two}}\n", Right: minimal + "machines:\n  almanac: {image: bookworm, resources: {cpus: 2}}\n"},
		{Name: string(ruleEmptyValue), Why: "A key with nothing behind it looks set and is not.",
			Wrong: minimal + "machines:\n  almanac:\n    image: bookworm\n    resources:\n", Right: minimal + "machines:\n  almanac:\n    image: bookworm\n"},
		{Name: string(ruleMissingUnit), Why: "Programs disagree whether a bare number means bytes, megabytes or gigabytes.",
			Wrong: minimal + "machines:\n  almanac: {image: bookworm, resources: {memory: 2048}}\n", Right: minimal + "machines:\n  almanac: {image: bookworm, resources: {memory: 2048MiB}}\n"},
		{Name: string(ruleOutOfRange), Why: "No target can make a machine with such a value.",
			Wrong: minimal + "machines:\n  almanac: {image: bookworm, ports: {web: {host: 80800, machine: 80}}}\n", Right: minimal + "machines:\n  almanac: {image: bookworm, ports: {web: {host: 8080, machine: 80}}}\n"},
		{Name: string(ruleBadValue), Why: "The value does not have the form that its key needs.",
			Wrong: minimal + "networks:\n  quay: {subnet: 10.44.7.1/24}\n", Right: minimal + "networks:\n  quay: {subnet: 10.44.7.0/24}\n"},
		{Name: string(ruleBadName), Why: "Names become host names, file names and names of resources, so they are DNS labels (RFC 1123); logins and paths have forms of their own.",
			Wrong: minimal + "machines:\n  Tide_Tables: {image: bookworm}\n", Right: minimal + "machines:\n  tide-tables: {image: bookworm}\n"},
		{Name: string(ruleAlias), Why: "YAML's anchors and aliases hide where a value comes from and can grow without bound; tags change what a value means. Machines share by kits instead.",
			Wrong: minimal + "machines:\n  almanac: &base {image: bookworm}\n  store: *base\n", Right: minimal + "machines:\n  almanac: {image: bookworm}\n  store: {image: bookworm}\n"},
		{Name: string(ruleNothingInherited), Why: "The word none takes away what a kit brought; with nothing to take away it is most likely a misspelt name.",
			Wrong: minimal + "machines:\n  almanac: {image: bookworm, ports: {web: none}}\n", Right: minimal + "machines:\n  almanac: {image: bookworm}\n"},
		{Name: string(ruleBothContents), Why: "Content is typed in or taken from a file; with both, one would be lost.",
			Wrong: minimal + "keys:\n  ops: {text: \"ssh-ed25519 AAAA\", file: keys/ops.pub}\n", Right: minimal + "keys:\n  ops: {file: keys/ops.pub}\n"},
		{Name: string(rulePathOutside), Why: "A definition takes in files from its own folder only, so that one from a stranger cannot carry off a file of yours.",
			Wrong: minimal + "keys:\n  ops: {file: ../ops.pub}\n", Right: minimal + "keys:\n  ops: {file: keys/ops.pub}\n"},
		{Name: string(ruleFileUnreadable), Why: "What the definition takes in has to be there when it is read.",
			Wrong: minimal + "keys:\n  ops: {file: keys/opps.pub}\n", Right: minimal + "keys:\n  ops: {file: keys/ops.pub}\n"},
		{Name: string(ruleCircle), Why: "Kits that are put together from each other, or definitions that use each other, have no beginning. The message names the whole circle.",
			Wrong: minimal + "kits:\n  shore: {kits: [tide]}\n  tide: {kits: [shore]}\nmachines:\n  almanac: {image: bookworm, kits: [shore]}\n", Right: minimal + "kits:\n  shore: {kits: [tide]}\n  tide: {}\nmachines:\n  almanac: {image: bookworm, kits: [shore]}\n"},
		{Name: string(ruleUnknownKit), Why: "A machine is put together from a kit that is not defined, so what the kit would have brought is missing.",
			Wrong: minimal + "kits:\n  shore: {}\nmachines:\n  almanac: {image: bookworm, kits: [shoer]}\n", Right: minimal + "kits:\n  shore: {}\nmachines:\n  almanac: {image: bookworm, kits: [shore]}\n"},
		{Name: string(ruleUnknownMachine), Why: "A variant changes a machine that is not defined, so its change would be lost in silence.",
			Wrong: minimal + "machines:\n  almanac: {image: bookworm}\nvariants:\n  rehearsal: {machines: {almanack: {}}}\n", Right: minimal + "machines:\n  almanac: {image: bookworm}\nvariants:\n  rehearsal: {machines: {almanac: {}}}\n"},
		{Name: string(ruleFilling), Why: "A text with fill: true is run through text/template over the fleet. An unknown name or a template that does not parse would otherwise leave a gap in a configuration file.",
			Wrong: minimal + "machines:\n  almanac:\n    image: bookworm\n    first_boot: {files: {/etc/tide.conf: {text: \"store={{ machine `stroe` `address` }}\", fill: true}}}\n",
			Right: minimal + "machines:\n  almanac:\n    image: bookworm\n    first_boot: {files: {/etc/tide.conf: {text: \"store={{ machine `almanac` `host_name` }}\", fill: true}}}\n"},
	}
	for i := range rules {
		rules[i].Severity, rules[i].Theme = readingSeverity, "reading"
	}
	return rules
}
