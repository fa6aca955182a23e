package check

import (
	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

func consoleRules() []rule {
	return []rule{
		ofMachine("console-open", finding.Warning, consoleOpen),
	}
}

func consoleOpen(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	if m.Console.Kind == fleet.Graphical && !m.Console.Listen.IsLoopback() && m.Console.Password == "" {
		r.report(finding.OfConsole(m, "listen"), "the console of machine %s listens on %v and asks for no password",
			m.Name, m.Console.Listen).
			remedy("remove listen and connect over SSH, or add password: NAME of a secret")
	}
}
