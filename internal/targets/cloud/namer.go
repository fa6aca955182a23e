package cloud

import (
	"fmt"
	"strings"
)

// Namer gives names to resources that are made of several names, such as a machine's and
// its disk's: `web` with the disk `a-b` and `web-a` with `b` would have one name. The same
// parts always get the same name. The zero value is ready to use.
type Namer struct {
	names map[string]string
	taken map[string]bool
}

// Name returns a name of at most limit characters that no other parts of the same kind
// have: the parts with hyphens between them, and a number if that is taken.
func (n *Namer) Name(kind string, limit int, parts ...string) string {
	if n.names == nil {
		n.names, n.taken = map[string]string{}, map[string]bool{}
	}
	key := kind + "\x00" + strings.Join(parts, "\x00")
	if name, ok := n.names[key]; ok {
		return name
	}
	joined := strings.Join(parts, "-")
	name := Shorten(joined, limit)
	for count := 2; n.taken[kind+"\x00"+name]; count++ {
		name = Shorten(fmt.Sprintf("%s-n%d", joined, count), limit)
	}
	n.names[key] = name
	n.taken[kind+"\x00"+name] = true
	return name
}
