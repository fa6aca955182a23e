//go:build unix

package outfolder

import (
	"os"

	"golang.org/x/sys/unix"
)

// hold marks a folder as in use until the returned file is closed, which the system
// does for a killed process.
func hold(folder string) (*os.File, error) {
	file, err := os.Open(folder)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(file.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
}

// abandoned reports whether no process holds a folder.
func abandoned(folder string) bool {
	file, err := hold(folder)
	if err != nil {
		return false
	}
	file.Close()
	return true
}
