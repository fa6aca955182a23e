//go:build unix

package outfolder

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// tryLock locks a folder until the returned file is closed, which the system does for a
// killed process. It returns nil if another process has locked it.
func tryLock(folder string) (*os.File, error) {
	file, err := os.Open(folder)
	if err != nil {
		return nil, err
	}
	err = unix.Flock(int(file.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	switch {
	case err == nil:
		return file, nil
	case errors.Is(err, unix.EWOULDBLOCK):
		file.Close()
		return nil, nil
	case errors.Is(err, unix.ENOTSUP), errors.Is(err, unix.ENOLCK):
		return file, nil // the file system has no locks, so nobody else has one
	}
	file.Close()
	return nil, err
}
