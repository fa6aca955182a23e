package source

import (
	"path"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/nearest"
)

// sharedSections are what a definition brings to those that use it.
var sharedSections = map[string]bool{
	"use": true, "systems": true, "images": true, "networks": true, "keys": true, "secrets": true, "firewalls": true, "kits": true,
}

// use reads the shared sections of other definitions into this one.
func use() kind[fleet.Fleet] {
	return kind[fleet.Fleet]{name: "list of paths", schema: listSchema, read: func(r *reader, l layer, into *fleet.Fleet) bool {
		return r.list(l, "paths", "[common.stavren.yaml]", func(l layer) { r.useFile(l, into) })
	}}
}

func (r *reader) useFile(l layer, into *fleet.Fleet) {
	named := l.node.Value
	inside := path.Clean(named)
	if named == "" || (path.IsAbs(named) || inside == ".." || strings.HasPrefix(inside, "../")) && !r.options.AllowOutside {
		r.fault(rulePathOutside, l, r.here()+" names "+quoted(named)+", which is not below the definition's folder", "move the file below that folder, or give --allow-outside")
		return
	}
	name := path.Join(l.document.folder, named)
	if path.IsAbs(named) {
		name = inside
	}
	for i, open := range r.using {
		if open == name {
			circle := append(append([]string{}, r.using[i:]...), name)
			r.fault(ruleCircle, l, "definitions use each other in a circle: "+strings.Join(circle, ", then "), "remove one of these uses; put what both need into a third file")
			return
		}
	}
	if r.used[name] {
		return // two ways lead to it, which is no harm
	}
	r.used[name] = true
	data, err := readDefinition(r.files, name)
	if err != nil {
		r.fault(ruleFileUnreadable, l, "cannot read the definition "+quoted(name)+": "+err.Error(), "check the path; it is relative to the folder of the definition that uses it")
		return
	}
	document := r.parse(name, data)
	if document == nil {
		return
	}
	top := layer{node: document.root, document: document}
	if !r.plainNode(top) {
		return
	}
	r.using = append(r.using, name)
	outer := r.path
	r.path = nil
	r.readShared(top, into)
	r.path = outer
	r.using = r.using[:len(r.using)-1]
}

// readShared reads the shared sections of a definition that is used. What it
// says beside them is its own affair, but its version has to be known.
func (t *table[T, P]) readShared(r *reader, l layer, into P) {
	if l.node.Kind != yaml.MappingNode {
		r.fault(ruleWrongType, l, "a definition takes a map, but this is "+describe(l.node), "start it with `stavren: 1`")
		return
	}
	for e := range r.entries(l) {
		i, known := t.index[e.name()]
		r.enter(e.name())
		switch {
		case !known:
			r.fault(ruleUnknownKey, e.atKey(), t.what+" has no key "+quoted(e.name()), nearest.Remedy(e.name(), t.keys))
		case sharedSections[e.name()]:
			if t.fields[i].kind.read(r, e, (*T)(into)) {
				e.record(into, e.name())
			}
		case e.name() == "stavren":
			t.fields[i].kind.read(r, e, (*T)(into))
		}
		r.leave()
	}
	if !hasKey(l.node, "stavren") {
		r.fault(ruleMissingKey, l, "a definition needs the key \"stavren\"", "add `stavren: "+Version+"`")
	}
}
