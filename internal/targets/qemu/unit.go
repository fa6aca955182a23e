package qemu

import (
	"fmt"
	"strings"

	"stavren.example/stavren/fleet"
)

// unit renders a systemd unit that works in any folder: %Y is the folder of the
// unit's own file (systemd.unit(5), since version 251).
func unit(f *fleet.Fleet, m *fleet.Machine) []byte {
	var text strings.Builder
	how := "To start it at boot"
	if m.Autostart {
		how = "It is meant to start at boot"
	}
	fmt.Fprintf(&text, "# %s:  systemctl --user enable --now \"$PWD/%s.service\"\n", how, m.Name)
	text.WriteString("# and once, so that it starts before anybody logs in:  loginctl enable-linger\n")
	fmt.Fprintf(&text, "[Unit]\nDescription=Virtual machine %s of %s\n\n[Service]\nType=exec\n", m.Name, f.Name)
	if m.Autostart && m.AutostartDelay > 0 {
		fmt.Fprintf(&text, "ExecStartPre=/bin/sleep %d\n", int(m.AutostartDelay.Seconds()))
	}
	text.WriteString("ExecStart=%Y/run.sh start\nExecStop=%Y/run.sh stop\nTimeoutStopSec=100\n")
	switch m.Resources.Priority {
	case fleet.Low:
		text.WriteString("CPUWeight=25\n")
	case fleet.High:
		fmt.Fprintf(&text, "CPUWeight=400\nMemoryLow=%d\n", int64(m.Resources.Memory))
	}
	if m.Autostart && m.AutostartDelay > 0 {
		fmt.Fprintf(&text, "TimeoutStartSec=%d\n", int(m.AutostartDelay.Seconds())+90)
	}
	text.WriteString("\n[Install]\nWantedBy=default.target\n")
	return []byte(text.String())
}
