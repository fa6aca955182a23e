package source

import (
	"errors"
	"net/netip"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/nearest"
)

// scalar returns the single value of a layer, if it is one.
func (r *reader) scalar(top layer, what, example string) (layer, bool) {
	switch {
	case !r.plainNode(top):
		return top, false
	case isNull(top.node):
		r.emptyValue(top)
		return top, false
	case top.node.Kind != yaml.ScalarNode:
		r.fault(ruleWrongType, top, r.here()+" takes "+what+", but this is "+describe(top.node), "write "+example)
		return top, false
	}
	return top, true
}

func (r *reader) wrongType(l layer, what, remedy string) bool {
	r.fault(ruleWrongType, l, r.here()+" takes "+what+", but this is "+describe(l.node), remedy)
	return false
}

// zero clears a value that is kept as itself.
func zero[T, V any](at func(*T) *V) func(*T) {
	return func(from *T) {
		var none V
		*at(from) = none
	}
}

func joined[V interface{ String() string }](values []V) string {
	texts := make([]string, len(values))
	for i, value := range values {
		texts[i] = value.String()
	}
	return strings.Join(texts, ", ")
}

// textRule says what is wrong with a text, or returns "".
type textRule func(text string) (fault string)

// text is any text that passes the rule; a nil rule lets everything pass.
func text[T any](rule textRule, at func(*T) *string) kind[T] {
	return kind[T]{name: "text", clear: zero(at), schema: textSchema, print: func(of *T) string { return *at(of) }, read: func(r *reader, l layer, into *T) bool {
		top, ok := r.text(l)
		if !ok {
			return false
		}
		if rule != nil {
			if fault := rule(top.node.Value); fault != "" {
				r.fault(ruleBadValue, top, r.here()+" "+fault, "change the text, or remove the line")
				return false
			}
		}
		*at(into) = top.node.Value
		return true
	}}
}

func (r *reader) text(l layer) (layer, bool) {
	top, ok := r.scalar(l, "text", "it as one text, in quotes where it holds : or #")
	if !ok {
		return top, false
	}
	if top.node.Tag != "!!str" {
		return top, r.wrongType(top, "text", "put it in quotes: \""+top.node.Value+"\"")
	}
	return top, true
}

// maxLine bounds single-line texts, in bytes.
const maxLine = 1024

// oneLine refuses what would break a line-based file such as /etc/passwd.
func oneLine(text string) string {
	switch {
	case strings.ContainsAny(text, "\n\r\x00"):
		return "has to be one line"
	case len(text) > maxLine:
		return "is longer than " + strconv.Itoa(maxLine) + " bytes"
	}
	return ""
}

// whole is a whole number between two bounds.
func whole[T any](least, most int, example string, at func(*T) *int) kind[T] {
	return kind[T]{name: "whole number from " + strconv.Itoa(least) + " to " + strconv.Itoa(most), clear: zero(at), schema: func() schema { return schema{"type": "integer", "minimum": least, "maximum": most} }, print: func(of *T) string { return strconv.Itoa(*at(of)) }, read: func(r *reader, l layer, into *T) bool {
		number, ok := r.whole(l, least, most, example)
		if ok {
			*at(into) = number
		}
		return ok
	}}
}

func (r *reader) whole(l layer, least, most int, example string) (int, bool) {
	top, ok := r.scalar(l, "a whole number", example)
	if !ok {
		return 0, false
	}
	if top.node.Tag != "!!int" && !(top.node.Tag == "!!float" && allDigits(top.node.Value)) {
		remedy := "write " + example
		if _, err := strconv.Atoi(top.node.Value); err == nil {
			remedy = "remove the quotes"
		}
		return 0, r.wrongType(top, "a whole number", remedy)
	}
	number, err := strconv.Atoi(top.node.Value)
	if err != nil && !errors.Is(err, strconv.ErrRange) {
		return 0, r.wrongType(top, "a whole number", "write it in decimal digits")
	}
	if err != nil || number < least || number > most {
		r.fault(ruleOutOfRange, top, r.here()+" is "+top.node.Value+", outside "+strconv.Itoa(least)+" to "+strconv.Itoa(most),
			"write a number within these bounds")
		return 0, false
	}
	return number, true
}

// allDigits recognises a whole number that YAML takes for a float since it is large.
func allDigits(text string) bool { return strings.Trim(text, "0123456789") == "" }

// amount is memory or disk room with its unit, of at least the given size.
func amount[T any](least fleet.Bytes, at func(*T) *fleet.Bytes) kind[T] {
	return kind[T]{name: "amount with unit", clear: zero(at), schema: amountSchema, print: func(of *T) string { return at(of).String() }, read: func(r *reader, l layer, into *T) bool {
		top, ok := r.scalar(l, "an amount with its unit", "it like 512MiB or 20GiB")
		if !ok {
			return false
		}
		value := top.node.Value
		bytes, err := fleet.ParseBytes(value)
		switch {
		case errors.Is(err, fleet.ErrNoUnit):
			unit := "GiB"
			if number, _ := strconv.Atoi(value); number >= 128 {
				unit = "MiB"
			}
			r.fault(ruleMissingUnit, top, r.here()+" is the bare number "+value+" and needs a unit",
				"write "+value+unit+" if that is what you mean; units are KiB, MiB, GiB, TiB, KB, MB, GB, TB and B")
		case errors.Is(err, fleet.ErrUnknownUnit):
			remedy := "units are KiB, MiB, GiB, TiB (powers of 1024), KB, MB, GB, TB (powers of 1000) and B"
			if fixed := fixUnit(value); fixed != "" {
				remedy = "write " + fixed + "; " + remedy
			}
			r.fault(ruleMissingUnit, top, r.here()+" is "+quoted(value)+", which has no unit that is known", remedy)
		case errors.Is(err, fleet.ErrTooMuch):
			r.fault(ruleOutOfRange, top, r.here()+" is "+quoted(value)+", more than any machine has", "write less")
		case err != nil || top.node.Tag != "!!str":
			return r.wrongType(top, "an amount with its unit", "write it like 512MiB or 20GiB, a whole number and its unit")
		case bytes < least:
			r.fault(ruleOutOfRange, top, r.here()+" is "+value+", less than "+least.String(), "write "+least.String()+" or more")
		default:
			*at(into) = bytes
			return true
		}
		return false
	}}
}

// fixUnit guesses what "2G", "2gb" or "512m" should have been.
func fixUnit(value string) string {
	digits := strings.TrimRight(value, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz")
	suffix := strings.ToUpper(value[len(digits):])
	if suffix == "" || !strings.Contains("KMGT", suffix[:1]) || len(suffix) > 3 {
		return ""
	}
	return strings.TrimSpace(digits) + suffix[:1] + "iB"
}

// truth is true or false.
func truth[T any](at func(*T) *bool) kind[T] {
	return kind[T]{name: "true or false", clear: zero(at), schema: func() schema { return schema{"type": "boolean"} }, print: func(of *T) string { return strconv.FormatBool(*at(of)) }, read: func(r *reader, l layer, into *T) bool {
		top, ok := r.scalar(l, "true or false", "true or false")
		if !ok {
			return false
		}
		if top.node.Tag != "!!bool" {
			remedy := "write true or false"
			switch strings.ToLower(top.node.Value) {
			case "yes", "on", "y", "1", "true":
				remedy = "write true"
			case "no", "off", "n", "0", "false":
				remedy = "write false"
			}
			return r.wrongType(top, "true or false", remedy)
		}
		*at(into) = strings.EqualFold(top.node.Value, "true")
		return true
	}}
}

// choice is one of a few words.
func choice[T any, E ~string](at func(*T) *E, words ...E) kind[T] {
	known := make([]string, len(words))
	for i, word := range words {
		known[i] = string(word)
	}
	return kind[T]{name: strings.Join(known, ", "), clear: zero(at), schema: func() schema { return schema{"enum": known} }, print: func(of *T) string { return string(*at(of)) }, read: func(r *reader, l layer, into *T) bool {
		top, ok := r.scalar(l, "one of "+strings.Join(known, ", "), "one of "+strings.Join(known, ", "))
		if !ok {
			return false
		}
		value := top.node.Value
		// YAML 1.1 readers take a bare no for false; here it is the word.
		for _, word := range words {
			if value == string(word) {
				*at(into) = word
				return true
			}
		}
		r.fault(ruleBadValue, top, r.here()+" is "+quoted(value)+", which is not one of "+strings.Join(known, ", "), nearest.Remedy(value, known))
		return false
	}}
}

// address is one IP address, as in the example.
func address[T any](example string, at func(*T) *netip.Addr) kind[T] {
	return kind[T]{name: "IP address", clear: zero(at), schema: textSchema, print: func(of *T) string {
		if !at(of).IsValid() {
			return ""
		}
		return at(of).String()
	}, read: func(r *reader, l layer, into *T) bool {
		top, ok := r.text(l)
		if !ok {
			return false
		}
		addr, ok := r.address(top, example)
		if ok {
			*at(into) = addr
		}
		return ok
	}}
}

func (r *reader) address(l layer, example string) (netip.Addr, bool) {
	addr, err := netip.ParseAddr(l.node.Value)
	if err != nil || addr.Zone() != "" {
		remedy := "write it like " + example
		if prefix, err := netip.ParsePrefix(l.node.Value); err == nil {
			remedy = "write " + prefix.Addr().String() + "; the prefix length comes from the network's subnet"
		}
		r.fault(ruleBadValue, l, r.here()+" is "+quoted(l.node.Value)+", which is not an IP address", remedy)
		return netip.Addr{}, false
	}
	return addr.Unmap(), true
}

func addresses[T any](at func(*T) *[]netip.Addr) kind[T] {
	return kind[T]{name: "list of IP addresses", clear: zero(at), schema: listSchema, print: func(of *T) string { return joined(*at(of)) }, read: func(r *reader, l layer, into *T) bool {
		return r.list(l, "IP addresses", "[10.44.7.1]", func(l layer) {
			if addr, ok := r.address(l, "10.44.7.1"); ok {
				*at(into) = append(*at(into), addr)
			}
		})
	}}
}

// subnet is an address range whose host bits are zero.
func subnet[T any](at func(*T) *netip.Prefix) kind[T] {
	return kind[T]{name: "subnet", clear: zero(at), schema: textSchema, print: func(of *T) string {
		if !at(of).IsValid() {
			return ""
		}
		return at(of).String()
	}, read: func(r *reader, l layer, into *T) bool {
		top, ok := r.text(l)
		if !ok {
			return false
		}
		prefix, err := netip.ParsePrefix(top.node.Value)
		switch {
		case err != nil:
			r.fault(ruleBadValue, top, r.here()+" is "+quoted(top.node.Value)+", which is not a subnet", "write it like 10.44.7.0/24")
			return false
		case prefix != prefix.Masked():
			r.fault(ruleBadValue, top, r.here()+" is "+quoted(top.node.Value)+", an address within a subnet and not the subnet itself",
				"write "+prefix.Masked().String())
			return false
		}
		*at(into) = prefix
		return true
	}}
}

// words is a list of single words that pass a rule. Layers join without repeats.
func words[T any](what string, rule nameRule, at func(*T) *[]string) kind[T] {
	return kind[T]{name: "list of " + what, clear: zero(at), schema: listSchema, print: func(of *T) string { return strings.Join(*at(of), ", ") }, read: func(r *reader, l layer, into *T) bool {
		return r.list(l, what, "a list such as [first, second]", func(l layer) {
			word := l.node.Value
			if remedy := rule(word); remedy != "" {
				r.fault(ruleBadValue, l, quoted(word)+" cannot stand in "+r.here(), remedy)
				return
			}
			for _, known := range *at(into) {
				if known == word {
					return
				}
			}
			*at(into) = append(*at(into), word)
			l.recordItem(any(into).(origins), r.path[len(r.path)-1], word)
		})
	}}
}

// list visits the texts of a list.
func (r *reader) list(l layer, what, example string, visit func(layer)) bool {
	switch {
	case isNull(l.node):
		r.emptyValue(l)
		return false
	case l.node.Kind != yaml.SequenceNode:
		remedy := "write " + example
		if l.node.Kind == yaml.ScalarNode && len(l.node.Value) < maxQuoted {
			remedy = "write [" + l.node.Value + "]"
		}
		return r.wrongType(l, "a list of "+what, remedy)
	}
	for _, node := range l.node.Content {
		item := layer{node: node, document: l.document, via: l.via}
		if !r.plainNode(item) {
			continue
		}
		if node.Kind != yaml.ScalarNode || node.Tag != "!!str" {
			r.fault(ruleWrongType, item, r.here()+" is a list of "+what+", but this entry is "+describe(node), "put it in quotes, or remove it")
			continue
		}
		visit(item)
	}
	return true
}
