package source

import (
	"net/netip"
	"regexp"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
)

// word is a text that passes a rule for names.
func word[T any](rule nameRule, at func(*T) *string) kind[T] {
	return kind[T]{name: "name", clear: zero(at), schema: textSchema, print: func(of *T) string { return *at(of) }, read: func(r *reader, l layer, into *T) bool {
		top, ok := r.text(l)
		if !ok {
			return false
		}
		if remedy := rule(top.node.Value); remedy != "" {
			r.fault(ruleBadName, top, r.here()+" cannot be "+quoted(top.node.Value), remedy)
			return false
		}
		*at(into) = top.node.Value
		return true
	}}
}

// pairs is a map from names to texts. Layers join by name.
func pairs[T any](what string, rule nameRule, at func(*T) *[]fleet.Pair) kind[T] {
	return kind[T]{
		name: "map of texts", clear: zero(at), schema: func() schema { return mapSchema(textSchema()) },
		print: func(of *T) string {
			var texts []string
			for _, pair := range *at(of) {
				texts = append(texts, pair.Key+": "+pair.Value)
			}
			return strings.Join(texts, ", ")
		},
		read: func(r *reader, l layer, into *T) bool {
			if !r.wantMap(l, "a map of "+what) {
				return false
			}
			for e := range r.entries(l) {
				r.enter(e.name())
				readPair(r, e, rule, what, at(into), any(into).(origins))
				r.leave()
			}
			return true
		},
	}
}

func readPair(r *reader, e layer, rule nameRule, what string, list *[]fleet.Pair, of origins) {
	key := r.path[len(r.path)-2]
	at := -1
	for i, pair := range *list {
		if pair.Key == e.name() {
			at = i
		}
	}
	if isNone(e.node) {
		if at >= 0 {
			*list = append((*list)[:at:at], (*list)[at+1:]...)
		} else if !r.partial {
			r.nothingInherited(e)
		}
		return
	}
	if remedy := rule(e.name()); remedy != "" {
		r.fault(ruleBadName, e.atKey(), quoted(e.name())+" cannot stand among the "+what, remedy)
	}
	top, ok := r.text(e)
	if !ok {
		return
	}
	if fault := oneLine(top.node.Value); fault != "" {
		r.fault(ruleBadValue, top, r.here()+" "+fault, "write it as one line")
		return
	}
	e.atKey().recordItem(of, key, e.name())
	if at >= 0 {
		(*list)[at].Value = top.node.Value
		return
	}
	*list = append(*list, fleet.Pair{Key: e.name(), Value: top.node.Value})
}

// prefixes are addresses with their prefix length; any stands for everybody,
// and one alone may stand without a list.
func prefixes[T any](everybody bool, at func(*T) *[]netip.Prefix) kind[T] {
	example := "10.44.8.20/24"
	if everybody {
		example = "198.51.100.0/24, or any"
	}
	return kind[T]{
		name: "list of addresses with prefix length", clear: zero(at), print: func(of *T) string { return joined(*at(of)) },
		schema: func() schema { return schema{"anyOf": []any{textSchema(), listSchema()}} },
		read: func(r *reader, l layer, into *T) bool {
			one := func(l layer) {
				if everybody && l.node.Value == "any" {
					r.fault(ruleBadValue, l, "any stands alone, not in a list with others", "write from: any, or name who may come in")
					return
				}
				prefix, err := netip.ParsePrefix(l.node.Value)
				if addr, addrErr := netip.ParseAddr(l.node.Value); addrErr == nil && everybody {
					prefix, err = netip.PrefixFrom(addr, addr.BitLen()), nil
				}
				if err != nil {
					r.fault(ruleBadValue, l, r.here()+" is "+quoted(l.node.Value)+", which is not an address with a prefix length", "write it like "+example)
					return
				}
				*at(into) = append(*at(into), prefix)
			}
			switch {
			case everybody && l.node.Kind == yaml.ScalarNode && l.node.Value == "any":
				*at(into) = nil
				return true
			case l.node.Kind == yaml.ScalarNode && l.node.Tag == "!!str":
				one(l)
				return true
			case everybody && l.node.Kind == yaml.SequenceNode && len(l.node.Content) == 0:
				// An empty list would read as nobody and mean everybody.
				r.fault(ruleEmptyValue, l, r.here()+" is an empty list", "write any for everybody, or name who may come in")
				return false
			}
			return r.list(l, "addresses with prefix length", "["+example+"]", one)
		},
	}
}

// portRange is a range of ports and its protocol, as a firewall knows it.
func portRange[T any](at func(*T) *fleet.PortRange) kind[T] {
	return kind[T]{
		name: "ports and protocol", clear: zero(at), schema: textSchema, print: func(of *T) string { return at(of).String() },
		read: func(r *reader, l layer, into *T) bool {
			top, ok := r.scalar(l, "ports and a protocol", "it like 80/tcp, 6000-6010/udp, icmp or any")
			if !ok {
				return false
			}
			ports, err := fleet.ParsePortRange(top.node.Value)
			if err != nil {
				remedy := "write it like 80/tcp, 6000-6010/udp, icmp or any"
				if number, numberErr := strconv.Atoi(top.node.Value); numberErr == nil && number > 0 && number < 65536 {
					remedy = "write " + top.node.Value + "/tcp or " + top.node.Value + "/udp"
				}
				r.fault(ruleBadValue, top, r.here()+" is "+quoted(top.node.Value)+", which is not a port with its protocol", remedy)
				return false
			}
			*at(into) = ports
			return true
		},
	}
}

// duration is a span of time with its unit.
func duration[T any](at func(*T) *time.Duration) kind[T] {
	return kind[T]{
		name: "span of time with unit", clear: zero(at), schema: textSchema, print: func(of *T) string { return at(of).String() },
		read: func(r *reader, l layer, into *T) bool {
			top, ok := r.scalar(l, "a span of time with its unit", "it like 90s or 5m")
			if !ok {
				return false
			}
			span, err := time.ParseDuration(top.node.Value)
			switch {
			case top.node.Tag == "!!int":
				r.fault(ruleMissingUnit, top, r.here()+" is the bare number "+top.node.Value+" and needs a unit", "write "+top.node.Value+"s if you mean seconds; units are s, m and h")
			case err != nil || span%time.Second != 0:
				r.fault(ruleBadValue, top, r.here()+" is "+quoted(top.node.Value)+", which is not a span of whole seconds", "write it like 90s or 5m")
			case span < 0 || span > 24*time.Hour:
				r.fault(ruleOutOfRange, top, r.here()+" is "+top.node.Value+", outside 0s to 24h", "write a span within these bounds")
			default:
				*at(into) = span
				return true
			}
			return false
		},
	}
}

// percent is a share of a hundred.
func percent[T any](at func(*T) *int) kind[T] {
	return kind[T]{
		name: "percentage", clear: zero(at), schema: textSchema, print: func(of *T) string { return strconv.Itoa(*at(of)) + "%" },
		read: func(r *reader, l layer, into *T) bool {
			top, ok := r.scalar(l, "a percentage", "it like 50%")
			if !ok {
				return false
			}
			digits, has := strings.CutSuffix(top.node.Value, "%")
			share, err := strconv.Atoi(digits)
			switch {
			case err != nil:
				return r.wrongType(top, "a percentage", "write it like 50%")
			case !has:
				r.fault(ruleMissingUnit, top, r.here()+" is the bare number "+quoted(digits)+" and needs a percent sign", "write "+digits+"%")
				return false
			case share < 0 || share > 100:
				r.fault(ruleOutOfRange, top, r.here()+" is "+top.node.Value+", outside 0% to 100%", "write a share within these bounds")
				return false
			}
			*at(into) = share
			return true
		},
	}
}

// date is a day of the calendar.
func date[T any](at func(*T) *time.Time) kind[T] {
	return kind[T]{
		name: "date", clear: zero(at), schema: textSchema,
		print: func(of *T) string {
			if at(of).IsZero() {
				return ""
			}
			return at(of).Format(time.DateOnly)
		},
		read: func(r *reader, l layer, into *T) bool {
			top, ok := r.scalar(l, "a date", "it like 2027-12-31")
			if !ok {
				return false
			}
			day, err := time.Parse(time.DateOnly, top.node.Value)
			if err != nil {
				r.fault(ruleBadValue, top, r.here()+" is "+quoted(top.node.Value)+", which is not a date", "write it as year, month and day, like 2027-12-31")
				return false
			}
			*at(into) = day
			return true
		},
	}
}

// matching is a text of one form.
func matching(pattern *regexp.Regexp, fault string) textRule {
	return func(text string) string {
		if pattern.MatchString(text) {
			return ""
		}
		return fault
	}
}
