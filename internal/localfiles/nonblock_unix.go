//go:build unix

package localfiles

import "golang.org/x/sys/unix"

// nonblock keeps opening a pipe without a writer from waiting for one.
const nonblock = unix.O_NONBLOCK
