package cli

import (
	"fmt"
	"os"
	"time"
)

// progress shows how far a command has got: only on a terminal, and only after a
// second. It is one line, written over and over and removed at the end.
type progress struct {
	out     *os.File
	what    string
	total   int
	started time.Time
	shown   time.Time
	last    string
	count   int
	bytes   int64
}

// progress starts counting towards a total. Without a terminal, nothing is shown.
func (s *session) progress(what string, total int) *progress {
	p := &progress{what: what, total: total, started: time.Now()}
	if !s.quiet {
		p.out = terminalOf(s.terminal)
	}
	return p
}

// at counts each folder of files once, since the files of a machine come together.
func (p *progress) at(file string) {
	if machine := folderOf(file); machine != p.last {
		p.last = machine
		p.count++
	}
	p.show(func() string { return fmt.Sprintf("%d of %d", min(p.count, p.total), p.total) })
}

// add counts bytes, whose total is unknown.
func (p *progress) add(bytes int64) {
	p.bytes += bytes
	p.show(func() string { return fmt.Sprintf("%d MiB", p.bytes>>20) })
}

func (p *progress) show(state func() string) {
	now := time.Now()
	if p.out == nil || now.Sub(p.started) < time.Second || now.Sub(p.shown) < 100*time.Millisecond {
		return
	}
	p.shown = now
	// A line that can't be written is no reason to stop.
	_, _ = fmt.Fprintf(p.out, "\r%s: %s\x1b[K", p.what, state())
}

// done removes the line.
func (p *progress) done() {
	if !p.shown.IsZero() {
		_, _ = fmt.Fprint(p.out, "\r\x1b[K")
	}
}
