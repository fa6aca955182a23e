package cli

import (
	"charm.land/lipgloss/v2"

	"stavren.example/stavren/finding"
)

// The styles of terminal output. They use only the sixteen colours that people
// configure for their terminals.
var (
	bold    = lipgloss.NewStyle().Bold(true)
	dim     = lipgloss.NewStyle().Faint(true)
	heading = lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Cyan)
	good    = lipgloss.NewStyle().Foreground(lipgloss.Green)
	remedy  = lipgloss.NewStyle().Foreground(lipgloss.Green)
	caret   = lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Red)
)

func severityStyle(severity finding.Severity) lipgloss.Style {
	switch severity {
	case finding.Error:
		return lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Red)
	case finding.Warning:
		return lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Yellow)
	default:
		return lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Blue)
	}
}
