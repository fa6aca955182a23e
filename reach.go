package stavren

import (
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/reach"
)

// MachineReach is how to get into one machine.
type MachineReach struct {
	Name string `json:"machine"`
	// Logins lists the users that can log in with a key.
	Logins []string `json:"logins"`
	Ways   []Way    `json:"ways"`
	// Missing says why nobody can log in, or is empty.
	Missing string `json:"missing,omitempty"`
	// Config is an OpenSSH client configuration, or empty.
	Config string `json:"ssh_config,omitempty"`
}

// Way is one way into a machine.
type Way struct {
	// Name is the name of the forwarded port, such as "site".
	Name string `json:"name"`
	// Open is what to run or open: an SSH command, a URL, or an address.
	Open string `json:"open"`
	// From and To are its two ends: the host's port and what it leads to.
	From string `json:"from"`
	To   string `json:"to"`
}

// Reach returns how to get into a machine: SSH command, forwarded ports, URLs and an
// OpenSSH client configuration.
func Reach(f *fleet.Fleet, m *fleet.Machine) MachineReach {
	found := reach.Of(f, m)
	result := MachineReach{Name: found.Name, Logins: found.Logins, Ways: []Way{}, Missing: found.Missing,
		Config: found.Config}
	for _, way := range found.Ways {
		result.Ways = append(result.Ways, Way(way))
	}
	return result
}
