package language

import (
	"cmp"
	"errors"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
	"stavren.example/stavren/internal/nearest"
)

func quoted(text string) string { return document.Quoted(text) }

// scalar describes a type of single values.
type scalar[V any] struct {
	// name is the type in words, for the language page.
	name string
	// want is the type in messages, such as "a whole number".
	want string
	// example is what the remedy asks for, such as "a number such as 2".
	example string
	// isText says that the value has to be text to YAML.
	isText bool
	// most bounds the length in bytes, if that isn't maxText.
	most int
	// parse returns the value of a layer, or reports a fault and returns false.
	parse func(r *Reader, l document.Layer) (V, bool)
	// format writes the value for the sheet; "" stands for none.
	format func(V) string
	schema schema
}

// single is a value of a scalar type.
func single[T, V any](s scalar[V], at func(*T) *V) value[T] {
	return value[T]{
		name:   s.name,
		clear:  clear(at),
		print:  func(of *T) string { return s.format(*at(of)) },
		schema: func() schema { return s.schema },
		read: func(r *Reader, l document.Layer, into *T) bool {
			if s.isText && !r.isText(l) || !s.isText && !r.isScalar(l, s.want, s.example) {
				return false
			}
			if !r.isShort(l, cmp.Or(s.most, maxText)) {
				return false
			}
			parsed, ok := s.parse(r, l)
			if ok {
				*at(into) = parsed
			}
			return ok
		},
	}
}

// clear returns a function that sets a value to zero.
func clear[T, V any](at func(*T) *V) func(*T) {
	return func(from *T) {
		var zero V
		*at(from) = zero
	}
}

// isScalar reports whether a layer is a single value, and a fault if it isn't.
func (r *Reader) isScalar(l document.Layer, want, example string) bool {
	switch {
	case !l.IsPlain(r.Faults):
		return false
	case l.IsNull():
		r.emptyValue(l)
		return false
	case l.Node.Kind != yaml.ScalarNode:
		return r.wrongType(l, want, "write "+example)
	}
	return true
}

// maxText bounds every text but the content of files, scripts and keys, in bytes.
const maxText = 4096

// maxKey bounds the keys that sign packages, in bytes. Those with many signatures take
// some kilobytes.
const maxKey = 64 << 10

// isShort reports whether a text is within its bound, and a fault if it isn't.
func (r *Reader) isShort(l document.Layer, most int) bool {
	if len(l.Node.Value) <= most {
		return true
	}
	r.Add(document.OutOfRange, l, r.Here()+" is longer than "+strconv.Itoa(most)+" bytes", "write less")
	return false
}

// isText reports whether a layer is text, and a fault if it isn't.
func (r *Reader) isText(l document.Layer) bool {
	if !r.isScalar(l, "text", "it as one text, in quotes if it contains : or #") {
		return false
	}
	if l.Node.Tag != "!!str" {
		remedy := "put it in quotes"
		if document.IsShort(l.Node.Value) {
			remedy += ": \"" + l.Node.Value + "\""
		}
		return r.wrongType(l, "text", remedy)
	}
	return true
}

// wrongType reports a value of another type than its key needs. It returns false.
func (r *Reader) wrongType(l document.Layer, want, remedy string) bool {
	r.Add(document.WrongType, l, r.Here()+" must be "+want+", but this is "+document.Describe(l.Node), remedy)
	return false
}

func (r *Reader) wantMap(l document.Layer, want string) bool {
	switch {
	case l.IsNull():
		r.emptyValue(l)
		return false
	case l.Node.Kind != yaml.MappingNode:
		return r.wrongType(l, want, "write `NAME:` below it, with the keys of each below its name")
	}
	return true
}

func (r *Reader) emptyValue(l document.Layer) {
	r.Add(document.EmptyValue, l, r.Here()+" is empty", "write a value, or remove the line to get the default")
}

// bad reports a value that doesn't have the form that its key requires.
func (r *Reader) bad(l document.Layer, fault, remedy string) {
	r.Add(document.BadValue, l, r.Here()+" is "+quoted(l.Node.Value)+", which is not "+fault, remedy)
}

// outside reports a value outside its bounds.
func (r *Reader) outside(l document.Layer, bounds, remedy string) {
	r.Add(document.OutOfRange, l, r.Here()+" is "+strings.Trim(quoted(l.Node.Value), `"`)+", outside "+bounds, remedy)
}

// asIs formats text as it is.
func asIs[E ~string](text E) string { return string(text) }

// ifValid formats an address or prefix, or returns "" for the zero value.
func ifValid[V interface {
	IsValid() bool
	String() string
}](v V) string {
	if !v.IsValid() {
		return ""
	}
	return v.String()
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

// matching accepts texts that match a regular expression.
func matching(expression, fault string) textRule {
	matches := pattern(expression)
	return func(text string) string {
		if matches(text) {
			return ""
		}
		return fault
	}
}

// text is any text that a rule accepts; nil accepts everything.
func text[T any](rule textRule, at func(*T) *string) value[T] {
	return single(scalar[string]{
		name: "text", isText: true, format: asIs[string], schema: textSchema(),
		parse: func(r *Reader, l document.Layer) (string, bool) {
			if rule != nil {
				if fault := rule(l.Node.Value); fault != "" {
					r.Add(document.BadValue, l, r.Here()+" "+fault, "change the text, or remove the line")
					return "", false
				}
			}
			return l.Node.Value, true
		},
	}, at)
}

// publicKey is the key of a repository, which may be long.
func publicKey[T any](at func(*T) *string) value[T] {
	return single(scalar[string]{
		name: "text", isText: true, most: maxKey, format: asIs[string], schema: textSchema(),
		parse: func(_ *Reader, l document.Layer) (string, bool) { return l.Node.Value, true },
	}, at)
}

// maxLine bounds texts of one line, in bytes.
const maxLine = 1024

// oneLine refuses what would break a file of lines, such as /etc/passwd.
func oneLine(text string) string {
	switch {
	case strings.ContainsAny(text, "\n\r\x00"):
		return "must be one line"
	case len(text) > maxLine:
		return "is longer than " + strconv.Itoa(maxLine) + " bytes"
	}
	return ""
}

// word is a text that a rule for names accepts.
func word[T any](rule nameRule, at func(*T) *string) value[T] {
	return single(scalar[string]{
		name: "name", isText: true, format: asIs[string], schema: textSchema(),
		parse: func(r *Reader, l document.Layer) (string, bool) {
			if remedy := rule(l.Node.Value); remedy != "" {
				r.Add(document.BadName, l, r.Here()+" cannot be "+quoted(l.Node.Value), remedy)
				return "", false
			}
			return l.Node.Value, true
		},
	}, at)
}

// integer is a whole number between two bounds.
func integer[T any](least, most int, example string, at func(*T) *int) value[T] {
	return single(scalar[int]{
		name: "whole number from " + strconv.Itoa(least) + " to " + strconv.Itoa(most),
		want: "a whole number", example: example, format: strconv.Itoa,
		schema: schema{"type": "integer", "minimum": least, "maximum": most},
		parse: func(r *Reader, l document.Layer) (int, bool) {
			return r.integer(l, least, most, example)
		},
	}, at)
}

func (r *Reader) integer(l document.Layer, least, most int, example string) (int, bool) {
	const want = "a whole number"
	number, err := strconv.Atoi(l.Node.Value)
	isInteger := l.Node.Tag == "!!int" || l.Node.Tag == "!!float" && isDigits(l.Node.Value)
	switch {
	case !isInteger && err == nil:
		return 0, r.wrongType(l, want, "remove the quotes")
	case !isInteger:
		return 0, r.wrongType(l, want, "write "+example)
	case err != nil && !errors.Is(err, strconv.ErrRange):
		return 0, r.wrongType(l, want, "write it in decimal digits")
	case err != nil || number < least || number > most:
		r.outside(l, strconv.Itoa(least)+" to "+strconv.Itoa(most), "write a number within these bounds")
		return 0, false
	}
	return number, true
}

// isDigits reports whether a text is a whole number. YAML takes large ones for floats.
func isDigits(text string) bool { return strings.Trim(text, "0123456789") == "" }

// amount is an amount of memory or disk with its unit.
func amount[T any](least fleet.Bytes, at func(*T) *fleet.Bytes) value[T] {
	return single(scalar[fleet.Bytes]{
		name: "amount with unit", want: "an amount with its unit", example: "it like 512MiB or 20GiB",
		format: fleet.Bytes.String, schema: amountSchema(),
		parse: func(r *Reader, l document.Layer) (fleet.Bytes, bool) { return r.amount(l, least) },
	}, at)
}

func (r *Reader) amount(l document.Layer, least fleet.Bytes) (fleet.Bytes, bool) {
	text := l.Node.Value
	bytes, err := fleet.ParseBytes(text)
	switch {
	case errors.Is(err, fleet.ErrNoUnit):
		unit := "GiB"
		if number, _ := strconv.Atoi(text); number >= 128 {
			unit = "MiB"
		}
		r.Add(document.MissingUnit, l, r.Here()+" is the bare number "+text+" and needs a unit",
			"write "+text+unit+" if that is what you mean; units are KiB, MiB, GiB, TiB, KB, MB, GB, TB and B")
	case errors.Is(err, fleet.ErrUnknownUnit):
		remedy := "units are KiB, MiB, GiB, TiB (powers of 1024), KB, MB, GB, TB (powers of 1000) and B"
		if fixed := fixUnit(text); fixed != "" {
			remedy = "write " + fixed + "; " + remedy
		}
		r.Add(document.MissingUnit, l, r.Here()+" is "+quoted(text)+", which has an unknown unit", remedy)
	case errors.Is(err, fleet.ErrTooMuch):
		r.Add(document.OutOfRange, l, r.Here()+" is "+quoted(text)+", more than any machine has", "write less")
	case err != nil || l.Node.Tag != "!!str":
		r.wrongType(l, "an amount with its unit", "write it like 512MiB or 20GiB, a whole number and its unit")
	case bytes < least:
		r.Add(document.OutOfRange, l, r.Here()+" is "+text+", less than "+least.String(),
			"write "+least.String()+" or more")
	default:
		return bytes, true
	}
	return 0, false
}

// fixUnit guesses what "2G", "2gb" or "512m" should have been, or returns "".
func fixUnit(text string) string {
	digits := strings.TrimRight(text, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz")
	suffix := strings.ToUpper(text[len(digits):])
	if suffix == "" || !strings.Contains("KMGT", suffix[:1]) || len(suffix) > 3 {
		return ""
	}
	return strings.TrimSpace(digits) + suffix[:1] + "iB"
}

// boolean is true or false.
func boolean[T any](at func(*T) *bool) value[T] {
	const want = "true or false"
	return single(scalar[bool]{
		name: want, want: want, example: want, format: strconv.FormatBool, schema: schema{"type": "boolean"},
		parse: func(r *Reader, l document.Layer) (bool, bool) {
			if l.Node.Tag == "!!bool" {
				return strings.EqualFold(l.Node.Value, "true"), true
			}
			remedy := "write true or false"
			switch strings.ToLower(l.Node.Value) {
			case "yes", "on", "y", "1", "true":
				remedy = "write true"
			case "no", "off", "n", "0", "false":
				remedy = "write false"
			}
			return false, r.wrongType(l, want, remedy)
		},
	}, at)
}

// choice is one of a few words.
func choice[T any, E ~string](at func(*T) *E, words ...E) value[T] {
	known := make([]string, len(words))
	for i, word := range words {
		known[i] = string(word)
	}
	list := strings.Join(known, ", ")
	return single(scalar[E]{
		name: list, want: "one of " + list, example: "one of " + list, format: asIs[E], schema: schema{"enum": known},
		parse: func(r *Reader, l document.Layer) (E, bool) {
			// YAML 1.1 readers take a bare no for false; here it is the word.
			if slices.Contains(known, l.Node.Value) {
				return E(l.Node.Value), true
			}
			r.bad(l, "one of "+list, nearest.Remedy(l.Node.Value, known))
			return "", false
		},
	}, at)
}

// address is one IP address.
func address[T any](example string, at func(*T) *netip.Addr) value[T] {
	return single(scalar[netip.Addr]{
		name: "IP address", isText: true, format: ifValid[netip.Addr], schema: textSchema(),
		parse: func(r *Reader, l document.Layer) (netip.Addr, bool) { return r.address(l, example) },
	}, at)
}

func (r *Reader) address(l document.Layer, example string) (netip.Addr, bool) {
	addr, err := netip.ParseAddr(l.Node.Value)
	if err != nil || addr.Zone() != "" {
		remedy := "write it like " + example
		if prefix, err := netip.ParsePrefix(l.Node.Value); err == nil {
			remedy = "write " + prefix.Addr().String() + "; the prefix length comes from the network's subnet"
		}
		r.bad(l, "an IP address", remedy)
		return netip.Addr{}, false
	}
	return addr.Unmap(), true
}

// subnet is an address range whose host bits are zero.
func subnet[T any](at func(*T) *netip.Prefix) value[T] {
	return single(scalar[netip.Prefix]{
		name: "subnet", isText: true, format: ifValid[netip.Prefix], schema: textSchema(),
		parse: func(r *Reader, l document.Layer) (netip.Prefix, bool) {
			prefix, err := netip.ParsePrefix(l.Node.Value)
			switch {
			case err != nil:
				r.bad(l, "a subnet", "write it like 10.44.7.0/24")
				return netip.Prefix{}, false
			case prefix != prefix.Masked():
				r.Add(document.BadValue, l, r.Here()+" is "+quoted(l.Node.Value)+", an address within a subnet and "+
					"not the subnet itself",
					"write "+prefix.Masked().String())
				return netip.Prefix{}, false
			}
			return prefix, true
		},
	}, at)
}
