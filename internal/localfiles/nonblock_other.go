//go:build !unix

package localfiles

// nonblock is only needed where files can be named pipes.
const nonblock = 0
