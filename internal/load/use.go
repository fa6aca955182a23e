package load

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"stavren.example/stavren/internal/document"
	"stavren.example/stavren/internal/language"
)

// maxUseDepth is how deep definitions use each other.
const maxUseDepth = 32

// use reads the shared sections of the definitions that one uses, and of those that
// they use in turn. chain is the way from the first definition to this one. What a
// definition says itself is read afterwards, so that it comes last and applies.
func (l *loader) use(top document.Layer, chain []string, into *language.Definition) {
	for _, path := range l.reader.Uses(top) {
		l.faults.Enter("use")
		l.useFile(path, chain, into)
		l.faults.Leave()
	}
}

func (l *loader) useFile(path document.Layer, chain []string, into *language.Definition) {
	named := path.Node.Value
	if named == "" || l.files.IsOutside(named) {
		l.faults.Add(document.PathOutside, path,
			l.faults.Here()+" names "+document.Quoted(named)+", which is not below the definition's folder",
			"move the file below that folder, or give --allow-outside")
		return
	}
	name := l.files.Resolve(path, named)
	if at := slices.Index(chain, name); at >= 0 {
		circle := strings.Join(append(slices.Clone(chain[at:]), name), ", then ")
		l.faults.Add(document.Circle, path, "definitions use each other in a circle: "+circle,
			"remove one of these uses; put what both need into a third file")
		return
	}
	if l.used[name] {
		return // several definitions may use the same one
	}
	if len(chain) > maxUseDepth {
		l.faults.Add(document.OutOfRange, path, fmt.Sprintf("definitions use each other more than %d deep", maxUseDepth),
			"use the definitions that are needed directly")
		return
	}
	l.used[name] = true
	data, err := l.files.Used(path, named)
	if err != nil {
		remedy := "check the path; it is relative to the folder of the definition that uses it"
		if !errors.Is(err, fs.ErrNotExist) {
			remedy = "name a file in that folder, not a link that leads out of it, or give --allow-outside"
		}
		l.faults.Add(document.FileUnreadable, path,
			"cannot read the definition "+document.Quoted(name)+": "+err.Error(), remedy)
		return
	}
	// The path leads from the top of the other definition now.
	defer l.faults.At()()
	d := document.Parse(l.ctx, l.faults, name, data)
	if d == nil || !d.Top().IsPlain(l.faults) {
		return
	}
	l.use(d.Top(), append(slices.Clone(chain), name), into)
	l.reader.ReadShared(d.Top(), into)
}
