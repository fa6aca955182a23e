package language

import (
	"strconv"
	"strings"
	"time"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
)

// portRange is a range of ports with its protocol, as firewalls have it.
func portRange[T any](at func(*T) *fleet.PortRange) value[T] {
	const example = "it like 80/tcp, 6000-6010/udp, icmp or any"
	return single(scalar[fleet.PortRange]{
		name: "ports and protocol", want: "ports and a protocol", example: example,
		format: fleet.PortRange.String, schema: textSchema(),
		parse: func(r *Reader, l document.Layer) (fleet.PortRange, bool) {
			ports, err := fleet.ParsePortRange(l.Node.Value)
			if err == nil {
				return ports, true
			}
			remedy := "write " + example
			if number, err := strconv.Atoi(l.Node.Value); err == nil && number > 0 && number < 65536 {
				remedy = "write " + l.Node.Value + "/tcp or " + l.Node.Value + "/udp"
			}
			r.bad(l, "a port with its protocol", remedy)
			return ports, false
		},
	}, at)
}

// hostPort is a port of the host, or the word auto.
func hostPort[T any](at func(*T) *int, auto func(*T) *bool) value[T] {
	const example = "a number such as 8080, or auto"
	v := single(scalar[int]{
		name: "port number or auto", want: "a whole number", example: example, format: strconv.Itoa,
		schema: schema{"anyOf": []any{schema{"const": "auto"},
			schema{"type": "integer", "minimum": 1, "maximum": 65535}}},
		parse: func(r *Reader, l document.Layer) (int, bool) {
			if l.Node.Value == "auto" {
				return 0, true
			}
			return r.integer(l, 1, 65535, example)
		},
	}, at)
	read, clearPort := v.read, v.clear
	v.read = func(r *Reader, l document.Layer, into *T) bool {
		ok := read(r, l, into)
		*auto(into) = ok && *at(into) == 0
		return ok
	}
	v.clear = func(from *T) {
		clearPort(from)
		*auto(from) = false
	}
	v.print = func(of *T) string {
		switch {
		case *at(of) == 0:
			return ""
		case *auto(of):
			return strconv.Itoa(*at(of)) + ", chosen"
		}
		return strconv.Itoa(*at(of))
	}
	return v
}

// longestDuration bounds spans of time.
const longestDuration = 24 * time.Hour

// duration is a span of whole seconds with its unit.
func duration[T any](at func(*T) *time.Duration) value[T] {
	return single(scalar[time.Duration]{
		name: "span of time with unit", want: "a span of time with its unit", example: "it like 90s or 5m",
		format: time.Duration.String, schema: textSchema(),
		parse: func(r *Reader, l document.Layer) (time.Duration, bool) {
			span, err := time.ParseDuration(l.Node.Value)
			switch {
			case l.Node.Tag == "!!int":
				r.Add(document.MissingUnit, l, r.Here()+" is the bare number "+l.Node.Value+" and needs a unit",
					"write "+l.Node.Value+"s if you mean seconds; units are s, m and h")
			case err != nil || span%time.Second != 0:
				r.bad(l, "a span of whole seconds", "write it like 90s or 5m")
			case span < 0 || span > longestDuration:
				r.outside(l, "0s to 24h", "write a span within these bounds")
			default:
				return span, true
			}
			return 0, false
		},
	}, at)
}

// percent is a share of a hundred.
func percent[T any](at func(*T) *int) value[T] {
	return single(scalar[int]{
		name: "percentage", want: "a percentage", example: "it like 50%",
		format: func(share int) string { return strconv.Itoa(share) + "%" }, schema: textSchema(),
		parse: func(r *Reader, l document.Layer) (int, bool) {
			digits, hasSign := strings.CutSuffix(l.Node.Value, "%")
			share, err := strconv.Atoi(digits)
			switch {
			case err != nil:
				return 0, r.wrongType(l, "a percentage", "write it like 50%")
			case !hasSign:
				r.Add(document.MissingUnit, l, r.Here()+" is the bare number "+quoted(digits)+" and needs a percent sign",
					"write "+digits+"%")
				return 0, false
			case share < 0 || share > 100:
				r.outside(l, "0% to 100%", "write a share within these bounds")
				return 0, false
			}
			return share, true
		},
	}, at)
}

// date is a day of the calendar.
func date[T any](at func(*T) *time.Time) value[T] {
	return single(scalar[time.Time]{
		name: "date", want: "a date", example: "it like 2027-12-31", schema: textSchema(),
		format: func(day time.Time) string {
			if day.IsZero() {
				return ""
			}
			return day.Format(time.DateOnly)
		},
		parse: func(r *Reader, l document.Layer) (time.Time, bool) {
			day, err := time.Parse(time.DateOnly, l.Node.Value)
			if err != nil {
				r.bad(l, "a date", "write it as year, month and day, like 2027-12-31")
			}
			return day, err == nil
		},
	}, at)
}

// hostPath is a path on the host that is used later, not read now. It keeps the
// folder of the definition that it is relative to.
func hostPath[T any](at, folder func(*T) *string) value[T] {
	v := text(pathText, at)
	v.name = "path"
	read := v.read
	v.read = func(r *Reader, l document.Layer, into *T) bool {
		if !read(r, l, into) {
			return false
		}
		*folder(into) = l.Folder()
		return true
	}
	return v
}

func pathText(text string) string {
	if text == "" {
		return "is empty"
	}
	return oneLine(text)
}

// confidential is a text that isn't shown, and that no message repeats.
func confidential[T any](name, fault, remedy string, valid func(string) bool, print func(string) string,
	at func(*T) *string) value[T] {
	return value[T]{
		name: name, clear: clear(at), schema: textSchema,
		print: func(of *T) string { return print(*at(of)) },
		read: func(r *Reader, l document.Layer, into *T) bool {
			if l.IsNull() {
				r.emptyValue(l)
				return false
			}
			if l.Node.Tag != "!!str" || !valid(l.Node.Value) {
				r.AddSecret(document.BadValue, l, r.Here()+" "+fault, remedy)
				return false
			}
			*at(into) = l.Node.Value
			return true
		},
	}
}

// secretName is the name of a secret. People sometimes type a password here, so no
// message repeats the value.
func secretName[T any](at func(*T) *string) value[T] {
	return confidential("name of a secret", "is not the name of a secret",
		"never type a password into a definition; define where to read it from under secrets, and write its name here",
		func(text string) bool { return label(text) == "" }, asIs[string], at)
}

func passwordHash[T any](at func(*T) *string) value[T] {
	print := func(hash string) string {
		if hash == "" {
			return ""
		}
		return "given, not shown"
	}
	return confidential("hash", "is not a hash in the form of crypt(5), such as $6$…",
		"make one with `openssl passwd -6`, or name a secret under password", pattern(`^\$[0-9a-z]+\$[ -9;-~]+$`),
		print, at)
}
