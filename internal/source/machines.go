package source

import (
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/nearest"
)

// Bounds on what a definition can multiply.
const (
	maxCopies   = 1000
	maxMachines = 20000
)

// kit is a partial machine.
type kit struct {
	layer layer
	kits  []layer // the kits that it is put together from, by name
}

// machineLayer is a machine's own node, kept until all kits are known.
type machineLayer struct {
	name  string
	layer layer
}

// kits reads the kits of a definition. Each is read once for its faults.
func kits() kind[fleet.Fleet] {
	return kind[fleet.Fleet]{
		name:   "map of names",
		schema: func() schema { return mapSchema(reference("machine")) },
		read: func(r *reader, l layer, _ *fleet.Fleet) bool {
			return r.eachName(l, "a kit", func(e layer) {
				if first := r.kits[e.name()]; first != nil {
					r.faultRelated(ruleRepeatedKey, e.atKey(), "the kit "+quoted(e.name())+" is defined twice", "rename one of them", first.layer.atKey().place(), "defined here first")
					return
				}
				e.via = "kit " + e.name()
				r.kits[e.name()] = &kit{layer: e, kits: r.kitNames(e.node, e.document)}
				r.readPartial(e)
			})
		},
	}
}

// eachName visits the entries of a map whose keys are names of what is said.
func (r *reader) eachName(l layer, what string, visit func(e layer)) bool {
	if !r.wantMap(l, "a map of names") {
		return false
	}
	for e := range r.entries(l) {
		r.enter(e.name())
		if remedy := label(e.name()); remedy != "" {
			r.fault(ruleBadName, e.atKey(), quoted(e.name())+" cannot be the name of "+what, remedy)
		}
		visit(e)
		r.leave()
	}
	return true
}

// readPartial reads a kit or a variant's machine for its faults alone.
func (r *reader) readPartial(l layer) {
	m := &fleet.Machine{}
	l.atKey().record(m, fleet.Itself)
	outer := r.partial
	r.partial = true
	machineTable.read(r, l, m)
	r.partial = outer
}

// kitNames lists the names behind the key kits of a node.
func (r *reader) kitNames(node *yaml.Node, document *document) []layer {
	var names []layer
	for i := 0; i+1 < len(node.Content); i += 2 {
		if node.Content[i].Value != "kits" || node.Content[i+1].Kind != yaml.SequenceNode {
			continue
		}
		for _, name := range node.Content[i+1].Content {
			if name.Kind == yaml.ScalarNode && name.Tag == "!!str" {
				names = append(names, layer{node: name, document: document})
			}
		}
	}
	return names
}

// flatten lists the kits that some names lead to, each once and those that
// others are put together from before them. Unknown kits and circles are told.
func (r *reader) flatten(names []layer, chain []string, into *[]string) {
	for _, l := range names {
		name := l.node.Value
		if at := slices.Index(chain, name); at >= 0 {
			circle := append(slices.Clone(chain[at:]), name)
			r.fault(ruleCircle, l, "kits are put together from each other in a circle: "+strings.Join(circle, ", then "), "remove one of these kits from another's list")
			continue
		}
		k := r.kits[name]
		if k == nil {
			var known []string
			for name := range r.kits {
				known = append(known, name)
			}
			slices.Sort(known)
			r.fault(ruleUnknownKit, l, "the kit "+quoted(name)+" is not defined", nearest.Remedy(name, known))
			continue
		}
		if slices.Contains(*into, name) {
			continue
		}
		r.flatten(k.kits, append(slices.Clone(chain), name), into)
		if !slices.Contains(*into, name) {
			*into = append(*into, name)
		}
	}
}

// base puts together what machines with these kits have in common, once.
func (r *reader) base(kits []string, made map[string]*fleet.Machine) *fleet.Machine {
	key := strings.Join(kits, " ")
	if base := made[key]; base != nil {
		return base
	}
	base := &fleet.Machine{}
	outer := r.partial
	r.partial = true
	for _, name := range kits {
		machineTable.read(r, r.kits[name].layer, base)
	}
	r.partial = outer
	made[key] = base
	return base
}

// machines keeps the machines' nodes until kits and variants are known.
func machines() kind[fleet.Fleet] {
	return kind[fleet.Fleet]{
		name:  "map of names",
		below: func(prefix string) []Key { return machineTable.list(prefix + ".NAME.") },
		// The image may come from a kit, so no key of a machine is required here.
		schema: func() schema {
			return schema{"type": "object", "additionalProperties": reference("machine")}
		},
		read: func(r *reader, l layer, _ *fleet.Fleet) bool {
			return r.eachName(l, "a machine", func(e layer) {
				r.machines = append(r.machines, machineLayer{e.name(), e})
				r.machineNames[e.name()] = true
			})
		},
	}
}

// variants reads every variant for its faults and keeps the chosen one's layers.
func variants() kind[fleet.Fleet] {
	return kind[fleet.Fleet]{
		name: "map of names",
		schema: func() schema {
			return mapSchema(schema{"type": "object", "additionalProperties": false, "properties": schema{
				"about": textSchema(), "machines": mapSchema(reference("machine")),
			}})
		},
		read: func(r *reader, l layer, _ *fleet.Fleet) bool {
			return r.eachName(l, "a variant", func(e layer) {
				r.variantNames = append(r.variantNames, e.name())
				if r.wantMap(e, "a map with the key machines") {
					r.readVariant(e)
				}
			})
		},
	}
}

func (r *reader) readVariant(variant layer) {
	for section := range r.entries(variant) {
		r.enter(section.name())
		switch section.name() {
		case "about":
			r.text(section)
		case "machines":
			if r.wantMap(section, "a map of machines") {
				for e := range r.entries(section) {
					r.enter(e.name())
					r.readVariantMachine(variant.name(), e)
					r.leave()
				}
			}
		default:
			r.fault(ruleUnknownKey, section.atKey(), "a variant has no key "+quoted(section.name()), nearest.Remedy(section.name(), []string{"about", "machines"}))
		}
		r.leave()
	}
}

func (r *reader) readVariantMachine(variant string, e layer) {
	if !r.machineNames[e.name()] {
		var known []string
		for name := range r.machineNames {
			known = append(known, name)
		}
		slices.Sort(known)
		r.fault(ruleUnknownMachine, e.atKey(), "the machine "+quoted(e.name())+" that the variant changes is not defined", nearest.Remedy(e.name(), known))
		return
	}
	e.via = "variant " + variant
	if !isNone(e.node) {
		r.readPartial(e)
	}
	if variant == r.options.Variant {
		r.variants[e.name()] = e
	}
}

// makeMachines puts every machine together: its kits, its own node, and what the
// chosen variant changes; then it makes the copies.
func (r *reader) makeMachines(f *fleet.Fleet) {
	bases := map[string]*fleet.Machine{}
	r.enter("machines")
	for own := range r.ownLayers() {
		r.enter(own.name)
		kitNames := r.kitNames(own.layer.node, own.layer.document)
		variant, varied := r.variants[own.name]
		if varied && isNone(variant.node) {
			r.leave()
			continue // the variant does without it
		}
		if varied {
			kitNames = append(kitNames, r.kitNames(variant.node, variant.document)...)
		}
		m := &fleet.Machine{}
		machineTable.reserve(m, own.layer)
		if len(kitNames) > 0 {
			var kits []string
			r.flatten(kitNames, nil, &kits)
			m = r.base(kits, bases).Clone()
		}
		m.Name = own.name
		own.layer.atKey().record(m, fleet.Itself)
		machineTable.read(r, own.layer, m)
		if varied {
			machineTable.read(r, variant, m)
			own.layer.atKey().record(m, fleet.Itself)
		}
		machineTable.validate(r, m)
		if len(f.Machines)+max(m.Copies, 1) > maxMachines {
			r.fault(ruleOutOfRange, own.layer.atKey(), fmt.Sprintf("the definition makes more than %d machines", maxMachines), "split it into several definitions")
			r.leave()
			break
		}
		if m.Copies > 1 {
			f.Machines = append(f.Machines, r.copies(m)...)
		} else {
			f.Machines = append(f.Machines, m)
		}
		r.leave()
	}
	r.leave()
}

// copies makes the machines of one definition with copies. An address, a port of
// the host or an account of the outside that was given is the first one's.
func (r *reader) copies(m *fleet.Machine) []*fleet.Machine {
	machines := make([]*fleet.Machine, m.Copies)
	for i := range machines {
		c := m.Clone()
		c.Name = fmt.Sprintf("%s-%d", m.Name, i+1)
		if len(c.Name) > 63 && i == 0 {
			r.faultAt(ruleBadName, m.PlaceOf(fleet.Itself), quoted(c.Name)+" is too long for the name of a copy", "shorten the machine's name")
		}
		if c.HostName != "" {
			c.HostName = fmt.Sprintf("%s-%d", m.HostName, i+1)
		}
		for _, nic := range c.NICs {
			if nic.Address.IsValid() {
				nic.Address = countOn(nic.Address, i)
			}
			if nic.HardwareAddress != "" && i > 0 {
				nic.HardwareAddress = "" // one for each is derived
				nic.ClearOrigin("hardware_address")
			}
			for j, also := range nic.Also {
				nic.Also[j] = netip.PrefixFrom(countOn(also.Addr(), i), also.Bits())
			}
		}
		for _, port := range c.Ports {
			if !port.Auto && port.Host > 0 {
				port.Host += i
				if port.Host > math.MaxUint16 {
					r.faultAt(ruleOutOfRange, port.PlaceOf("host"), fmt.Sprintf("counting on from the first copy, port %s of %s would be %d", port.Name, c.Name, port.Host), "start lower, or write host: auto")
					return machines[:i]
				}
			}
		}
		if c.Console.Port > 0 && !c.Console.Auto {
			c.Console.Port = min(c.Console.Port+i, math.MaxUint16)
		}
		machines[i] = c
	}
	return machines
}

// countOn returns the n-th address after one. Where the range ends it stays, and
// the checks find an address used twice.
func countOn(addr netip.Addr, n int) netip.Addr {
	for range n {
		if next := addr.Next(); next.IsValid() {
			addr = next
		}
	}
	return addr
}
