package language

import (
	"strings"

	"stavren.example/stavren/fleet"
)

// Row is one value of a machine, for its sheet.
type Row struct {
	// Path leads to the value from the machine, such as "disks.root.size".
	Path  string
	Value string
	// Origin is where it was written. It is a default if nobody wrote it.
	Origin fleet.Origin
}

// Sheet returns every value of a machine, including defaults.
func Sheet(m *fleet.Machine) []Row {
	var rows []Row
	machineTable.sheet(m, "", func(row Row) {
		// The root disk has the image's file system.
		key, ofRoot := strings.CutPrefix(row.Path, "disks."+fleet.RootDisk+".")
		if ofRoot && (key == "filesystem" || key == "label" || key == "mount" || key == "options") {
			return
		}
		rows = append(rows, row)
	})
	return rows
}

func (t *table[T, P]) sheet(of P, prefix string, add func(Row)) {
	for _, f := range t.fields().list {
		if f.value.rows != nil {
			f.value.rows((*T)(of), prefix+f.key, add)
			continue
		}
		if f.value.print == nil {
			continue
		}
		row := Row{Path: prefix + f.key, Value: f.value.print((*T)(of)), Origin: of.OriginOf(f.key)}
		if row.Value == "" {
			row.Value = "none"
		}
		if row.Origin == (fleet.Origin{}) {
			row.Origin.Via = fleet.Default
		}
		add(row)
	}
}
