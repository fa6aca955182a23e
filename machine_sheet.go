package stavren

import (
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/language"
)

// MachineSheet is a machine as people review it before launch.
type MachineSheet struct {
	Machine, About string
	// System is the full name of the operating system on the image, and the end of
	// its support.
	System string
	// Rows lists every value in the order of the language, including defaults.
	Rows []SheetRow
}

// SheetRow is one value of a machine and where it came from.
type SheetRow struct {
	// Path leads to the value from the machine, such as "disks.root.size".
	Path  string
	Value string
	// Origin is where the value was written. It is a default if nobody wrote it.
	Origin fleet.Origin
}

// Sheet returns every value of a machine.
func Sheet(f *fleet.Fleet, m *fleet.Machine) MachineSheet {
	sheet := MachineSheet{Machine: m.Name, About: m.About, System: "the image " + m.Image + " is not defined"}
	for _, row := range language.Sheet(m) {
		sheet.Rows = append(sheet.Rows, SheetRow(row))
	}
	image := f.Image(m.Image)
	if image == nil {
		return sheet
	}
	sheet.System = "system " + image.OS + " is not in the list"
	if system, ok := catalog.Find(f, image.OS); ok {
		nameShells(sheet.Rows, system.Family.Shell)
		sheet.System = system.Title + ", " + image.Arch
		if !system.EndOfLife.IsZero() {
			sheet.System += ", supported until " + system.EndOfLife.Format("2006-01-02")
		}
	}
	return sheet
}

// nameShells fills in the system's default shell for users without one.
func nameShells(rows []SheetRow, shell string) {
	for i := range rows {
		if strings.HasPrefix(rows[i].Path, "users.") && strings.HasSuffix(rows[i].Path, ".shell") &&
			rows[i].Origin.IsDefault() {
			rows[i].Value = shell
		}
	}
}
