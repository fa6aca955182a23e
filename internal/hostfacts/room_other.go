//go:build !unix

package hostfacts

import (
	"strings"

	"stavren.example/stavren/fleet"
)

// room is unknown on this system.
func room(string) fleet.Bytes { return 0 }

func isAddressInUse(err error) bool {
	return strings.Contains(err.Error(), "Only one usage of each socket")
}
