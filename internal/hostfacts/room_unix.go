//go:build unix

package hostfacts

import (
	"errors"
	"syscall"

	"golang.org/x/sys/unix"

	"stavren.example/stavren/fleet"
)

// room returns the space that this account may still use on the disk of a folder, or
// 0.
func room(folder string) fleet.Bytes {
	var stat unix.Statfs_t
	if err := unix.Statfs(folder, &stat); err != nil {
		return 0
	}
	return fleet.Bytes(uint64(stat.Bavail) * uint64(stat.Bsize))
}

func isAddressInUse(err error) bool { return errors.Is(err, syscall.EADDRINUSE) }
