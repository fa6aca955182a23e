package stavren

import (
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/reach"
	"stavren.example/stavren/internal/source"
)

// MachineSheet is one machine as somebody reviews it before launch.
type MachineSheet struct {
	Machine, About string
	// System is the full name of the system on the image, and how long it is
	// supported.
	System string
	// Rows lists every value in the order of the language, defaults included.
	Rows []SheetRow
}

// SheetRow is one value of a machine and where it came from.
type SheetRow = source.Row

// Sheet lists every value of a machine.
func Sheet(f *fleet.Fleet, m *fleet.Machine) MachineSheet {
	sheet := MachineSheet{Machine: m.Name, About: m.About, System: "the image " + m.Image + " is not defined", Rows: source.Sheet(m)}
	if image := f.Image(m.Image); image != nil {
		sheet.System = "system " + image.OS + " is not in the list"
		if system, known := catalog.Find(f, image.OS); known {
			nameShells(sheet.Rows, system.Family.Shell)
			sheet.System = system.Title + ", " + image.Arch
			if !system.EndOfLife.IsZero() {
				sheet.System += ", supported until " + system.EndOfLife.Format("2006-01-02")
			}
		}
	}
	return sheet
}

// nameShells puts the system's usual shell where a user names none.
func nameShells(rows []SheetRow, shell string) {
	for i := range rows {
		if strings.HasPrefix(rows[i].Path, "users.") && strings.HasSuffix(rows[i].Path, ".shell") && rows[i].Origin.IsDefault() {
			rows[i].Value = shell
		}
	}
}

// MachineReach is how to get into one machine.
type MachineReach = reach.Machine

// Reach says how to get into a machine: SSH command, forwarded ports, URLs and
// an OpenSSH client configuration.
func Reach(f *fleet.Fleet, m *fleet.Machine) MachineReach { return reach.Of(f, m) }

// LanguageKey documents one key of the language.
type LanguageKey = source.Key

// LanguageKeys lists every key of the language, each map before what is in it.
func LanguageKeys() []LanguageKey { return source.Keys() }

// Schema returns the JSON Schema (2020-12) of the language, for editors.
func Schema() ([]byte, error) { return source.Schema() }
