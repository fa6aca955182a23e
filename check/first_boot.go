package check

import (
	"fmt"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

var scriptNotParsed = Rule{
	Rule: finding.Rule{
		Name: "script-not-parsed", Severity: finding.Error, Theme: "first boot",
		Why:   "The shell stops at the first line that it cannot parse, half-way through the first boot, and only the machine's own log says so. Scripts are read as POSIX sh unless their first line names bash or ksh.",
		Wrong: example("  almanac:\n    image: bookworm\n    first_boot:\n      scripts:\n        tables:\n          text: |\n            if true; then echo tide\n"),
		Right: example("  almanac:\n    image: bookworm\n    first_boot:\n      scripts:\n        tables:\n          text: |\n            if true; then echo tide; fi\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		for _, s := range m.FirstBoot.Scripts {
			if parsed := p.script(f, m, s); parsed.fault != "" {
				p.report(s.PlaceAt(parsed.line, parsed.column), machinePath(m, "first_boot", "scripts", s.Name),
					fmt.Sprintf("script %s does not parse: %s", s.Name, parsed.fault),
					"mend it, or name its interpreter in the first line if it is not POSIX sh")
			}
		}
	},
}

var scriptWaits = Rule{
	Rule: finding.Rule{
		Name: "script-waits-for-answer", Severity: finding.Error, Theme: "first boot",
		Why:   "At first boot nobody is there to answer. A command that asks gets an empty answer and gives up, or hangs until somebody looks, and all that follows it is missing.",
		Wrong: example("  almanac:\n    image: bookworm\n    first_boot:\n      scripts:\n        tables:\n          text: |\n            apt-get install nginx\n"),
		Right: example("  almanac:\n    image: bookworm\n    first_boot:\n      scripts:\n        tables:\n          text: |\n            apt-get install -y nginx\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		for _, s := range m.FirstBoot.Scripts {
			for _, c := range p.script(f, m, s).commands {
				why, remedy := waits(c)
				if why == "" {
					continue
				}
				p.report(s.PlaceAt(c.line, c.column), machinePath(m, "first_boot", "scripts", s.Name),
					fmt.Sprintf("script %s waits for an answer at first boot: %s", s.Name, why), remedy)
			}
		}
	},
}
