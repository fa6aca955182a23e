package qemu

import (
	"fmt"
	"strings"

	"stavren.example/stavren/fleet"
)

// unit renders a systemd unit that works from where it lies: %Y is the folder
// of the unit's own file (systemd.unit(5), since version 251).
func unit(f *fleet.Fleet, m *fleet.Machine) []byte {
	var text strings.Builder
	fmt.Fprintf(&text, `# Start at boot:  systemctl --user enable --now "$PWD/%[1]s.service"
[Unit]
Description=Virtual machine %[1]s of %[2]s

[Service]
ExecStart=%%Y/run.sh
TimeoutStopSec=60

[Install]
WantedBy=default.target
`, m.Name, f.Name)
	return []byte(text.String())
}
