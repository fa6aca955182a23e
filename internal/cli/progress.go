package cli

import (
	"io"
	"os"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/schollz/progressbar/v3"
)

// progress shows how far a command has got: only on a terminal, and only after a
// second.
type progress struct {
	out     io.Writer
	what    string
	total   int
	started time.Time
	last    string
	count   int
	bar     *progressbar.ProgressBar
}

// progress starts counting towards a total. Without a terminal, nothing is shown.
func (s *session) progress(what string, total int) *progress {
	p := &progress{what: what, total: total, started: time.Now()}
	if file, ok := s.terminal.(*os.File); ok && !s.quiet && term.IsTerminal(file.Fd()) {
		p.out = file
	}
	return p
}

// at counts each folder of files once, since the files of a machine come together.
func (p *progress) at(file string) {
	if p.out == nil {
		return
	}
	machine := folderOf(file)
	if machine != p.last {
		p.last = machine
		p.count++
	}
	if p.bar == nil && time.Since(p.started) > time.Second {
		p.bar = progressbar.NewOptions(p.total,
			progressbar.OptionSetWriter(p.out),
			progressbar.OptionSetDescription(p.what),
			progressbar.OptionShowCount(),
			progressbar.OptionThrottle(100*time.Millisecond),
			progressbar.OptionClearOnFinish(),
		)
	}
	if p.bar != nil {
		// A bar that can't be drawn is no reason to stop.
		_ = p.bar.Set(min(p.count, p.total))
	}
}

// add counts bytes, whose total is unknown.
func (p *progress) add(bytes int64) {
	if p.out == nil {
		return
	}
	if p.bar == nil && time.Since(p.started) > time.Second {
		p.bar = progressbar.NewOptions64(-1,
			progressbar.OptionSetWriter(p.out),
			progressbar.OptionSetDescription(p.what),
			progressbar.OptionShowBytes(true),
			progressbar.OptionThrottle(100*time.Millisecond),
			progressbar.OptionClearOnFinish(),
		)
	}
	if p.bar != nil {
		_ = p.bar.Add64(bytes)
	}
}

func (p *progress) done() {
	if p.bar != nil {
		_ = p.bar.Finish()
	}
}
