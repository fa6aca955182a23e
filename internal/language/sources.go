package language

import (
	"net/netip"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
)

// oneSource is the form of one source in messages.
const oneSource = "198.51.100.0/24, {network: quay}, or any"

// sources is who may connect: any, or a list of address ranges and of names within the
// fleet. A single address needs no prefix length, and one entry alone needs no list.
func sources() value[fleet.Allowance] {
	return value[fleet.Allowance]{
		name:   "list of addresses with prefix length, or of names",
		clear:  func(a *fleet.Allowance) { a.From, a.FromNames = nil, nil },
		schema: sourcesSchema,
		print: func(a *fleet.Allowance) string {
			return strings.Join(slices.DeleteFunc([]string{joined(a.From), joined(a.FromNames)},
				func(text string) bool { return text == "" }), ", ")
		},
		read: func(r *Reader, l document.Layer, into *fleet.Allowance) bool {
			switch {
			case l.Node.Kind == yaml.ScalarNode && l.Node.Value == "any":
				into.From, into.FromNames = nil, nil
				return true
			case l.Node.Kind == yaml.SequenceNode && len(l.Node.Content) == 0:
				// An empty list would look like nobody and mean everyone.
				r.Add(document.EmptyValue, l, r.Here()+" is an empty list",
					"write any for everyone, or list who may connect")
				return false
			case l.Node.Kind == yaml.MappingNode:
				return r.sourceName(l, into)
			case l.Node.Kind != yaml.SequenceNode:
				return r.prefixes(l, oneSource, func(item document.Layer) { r.sourceAddress(item, into) })
			}
			for _, item := range l.Items(r.Faults) {
				switch {
				case item.Node.Kind == yaml.MappingNode:
					r.sourceName(item, into)
				case item.Node.Kind != yaml.ScalarNode || item.Node.Tag != "!!str":
					r.Add(document.WrongType, item, r.Here()+" is a list of sources, but this entry is "+
						document.Describe(item.Node), "write it like "+oneSource)
				case r.isShort(item, maxText):
					r.sourceAddress(item, into)
				}
			}
			return true
		},
	}
}

func sourcesSchema() schema {
	names := schema{}
	for _, kind := range fleet.PeerKinds() {
		names[kind] = textSchema()
	}
	one := schema{"anyOf": []any{textSchema(), schema{"type": "object", "properties": names, "additionalProperties": false,
		"minProperties": 1, "maxProperties": 1}}}
	return schema{"anyOf": []any{one, schema{"type": "array", "items": one}}}
}

// sourceName reads a name within the fleet: a map of one kind of noun to the name.
func (r *Reader) sourceName(l document.Layer, into *fleet.Allowance) bool {
	content := l.Node.Content
	if len(content) != 2 || !slices.Contains(fleet.PeerKinds(), content[0].Value) ||
		content[1].Kind != yaml.ScalarNode || content[1].Tag != "!!str" {
		r.Add(document.BadValue, l, r.Here()+" is a map that names nobody", "write {network: NAME}, {machine: NAME} or "+
			"{firewall: NAME}")
		return false
	}
	if !r.isShort(l.At(content[1]), maxText) {
		return false
	}
	into.FromNames = append(into.FromNames, fleet.Peer{Kind: content[0].Value, Name: content[1].Value})
	return true
}

func (r *Reader) sourceAddress(item document.Layer, into *fleet.Allowance) {
	if item.Node.Value == "any" {
		r.Add(document.BadValue, item, "any must be alone, not in a list", "write from: any, or list who may connect")
		return
	}
	prefix, err := netip.ParsePrefix(item.Node.Value)
	if addr, addrErr := netip.ParseAddr(item.Node.Value); addrErr == nil {
		prefix, err = netip.PrefixFrom(addr, addr.BitLen()), nil
	}
	if err != nil {
		r.bad(item, "an address with a prefix length", "write it like "+oneSource)
		return
	}
	into.From = append(into.From, prefix)
}
