package load

import (
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
	"stavren.example/stavren/internal/language"
	"stavren.example/stavren/internal/nearest"
)

// maxParts is how many nouns the machines of a definition have together, beside those
// that it writes out: a kit of users, or copies, repeat what takes a few bytes.
const maxParts = 200_000

// leastPart is how many bytes of a definition a noun takes that is written out.
const leastPart = 20

// maxKitDepth is how deep kits include each other.
const maxKitDepth = 32

// kit is a partial machine.
type kit struct {
	layer document.Layer
	// kits are the names of the kits that it includes.
	kits []document.Layer
}

// readKits collects the kits. It reads each once, for its faults.
func (l *loader) readKits(entries []document.Layer) {
	l.faults.Enter("kits")
	defer l.faults.Leave()
	for _, e := range entries {
		l.faults.Enter(e.Name())
		if first := l.kits[e.Name()]; first != nil {
			l.faults.AddRelated(document.RepeatedKey, e.AtKey(),
				"the kit "+document.Quoted(e.Name())+" is defined twice",
				"rename one of them", first.layer.AtKey().Place(), "defined here first")
		} else {
			layer := e.From("kit " + e.Name())
			l.kits[e.Name()] = &kit{layer: layer, kits: kitNames(layer)}
			l.reader.ReadPart(layer)
		}
		l.faults.Leave()
	}
}

// kitNames returns the names in the list kits of a machine or kit.
func kitNames(l document.Layer) []document.Layer {
	var names []document.Layer
	content := l.Node.Content
	for i := 0; i+1 < len(content); i += 2 {
		if content[i].Value != "kits" || content[i+1].Kind != yaml.SequenceNode {
			continue
		}
		for _, name := range content[i+1].Content {
			if name.Kind == yaml.ScalarNode && name.Tag == "!!str" {
				names = append(names, l.At(name))
			}
		}
	}
	return names
}

// flatten adds the kits that some names lead to, each once, after the kits that it
// includes. It reports unknown kits and circles.
func (l *loader) flatten(names []document.Layer, chain []string, into *[]string) {
	for _, layer := range names {
		if l.faults.Full() {
			l.faults.Skip()
			continue
		}
		name := layer.Node.Value
		if at := slices.Index(chain, name); at >= 0 {
			circle := strings.Join(append(slices.Clone(chain[at:]), name), ", then ")
			l.faults.Add(document.Circle, layer, "kits include each other in a circle: "+circle,
				"remove one of these kits from another's list")
			continue
		}
		k := l.kits[name]
		if k == nil {
			l.faults.Add(document.UnknownKit, layer, "the kit "+document.Quoted(name)+" is not defined",
				nearest.Remedy(name, sorted(l.kits)))
			continue
		}
		if slices.Contains(*into, name) {
			continue
		}
		if len(chain) >= maxKitDepth {
			l.faults.Add(document.OutOfRange, layer, fmt.Sprintf("kits include each other more than %d deep", maxKitDepth),
				"include the kits that are needed directly")
			return
		}
		l.flatten(k.kits, append(slices.Clone(chain), name), into)
		if !slices.Contains(*into, name) {
			*into = append(*into, name)
		}
	}
}

// bases are what machines with the same kits have in common, by the kits' names.
type bases map[string]*fleet.Machine

// base returns what machines with some kits have in common, made once.
func (l *loader) base(kits []string, made bases) *fleet.Machine {
	key := strings.Join(kits, " ")
	if base := made[key]; base != nil {
		return base
	}
	base := &fleet.Machine{}
	reader := l.reader.Partial()
	for _, name := range kits {
		reader.ReadMachine(l.kits[name].layer, base)
	}
	made[key] = base
	return base
}

// machineNames returns the names of the machines of a definition.
func machineNames(definition *language.Definition, d *document.Document) map[string]bool {
	names := map[string]bool{}
	for _, e := range definition.Machines {
		names[e.Name()] = true
	}
	for _, name := range d.MachineNames() {
		names[name] = true
	}
	return names
}

// readVariants reads every variant for its faults. It returns the layers of the
// chosen one by machine, and the names of all.
func (l *loader) readVariants(entries []document.Layer, machines map[string]bool) (chosen map[string]document.Layer,
	names map[string]bool) {
	chosen, names = map[string]document.Layer{}, map[string]bool{}
	l.faults.Enter("variants")
	defer l.faults.Leave()
	for _, variant := range entries {
		name := variant.Name()
		names[name] = true
		l.faults.Enter(name)
		changes := l.reader.Variant(variant)
		l.faults.Enter("machines")
		for _, e := range changes {
			l.faults.Enter(e.Name())
			layer := e.From("variant " + name)
			switch {
			case l.faults.Full():
				l.faults.Skip()
			case !machines[e.Name()]:
				l.faults.Add(document.UnknownMachine, e.AtKey(),
					"the variant changes the machine "+document.Quoted(e.Name())+", which is not defined",
					nearest.Remedy(e.Name(), sorted(machines)))
			case name == l.options.Variant:
				chosen[e.Name()] = layer
				fallthrough
			default:
				if !e.IsNone() {
					l.reader.ReadPart(layer)
				}
			}
			l.faults.Leave()
		}
		l.faults.Leave()
		l.faults.Leave()
	}
	return chosen, names
}

// ownLayers iterates over the machines' own nodes: those that were parsed with the
// definition, and those that are parsed in turn.
func (l *loader) ownLayers(d *document.Document, definition *language.Definition) iter.Seq2[document.Layer, error] {
	return func(yield func(document.Layer, error) bool) {
		for _, own := range definition.Machines {
			if !yield(own, nil) {
				return
			}
		}
		for own, err := range d.Machines(l.faults) {
			if err == nil {
				l.reader.CheckMachineName(own)
			}
			if !yield(own, err) {
				return
			}
		}
	}
}

// makeMachines puts every machine together from its kits, its own node and what the
// variant changes, and then makes the copies.
func (l *loader) makeMachines(d *document.Document, definition *language.Definition,
	variant map[string]document.Layer) error {
	made := bases{}
	f := &definition.Fleet
	parts, most := 0, maxParts+d.Size()/leastPart
	l.faults.Enter("machines")
	defer l.faults.Leave()
	for own, err := range l.ownLayers(d, definition) {
		if err == nil {
			err = l.ctx.Err()
		}
		if err != nil {
			return err
		}
		change, varied := variant[own.Name()]
		if varied && change.IsNone() {
			continue // the variant removes the machine
		}
		l.faults.Enter(own.Name())
		m := l.makeMachine(own, change, varied, made)
		parts += max(m.Copies, 1) * partsOf(m)
		fits := len(f.Machines)+max(m.Copies, 1) <= document.MaxMachines && parts <= most
		switch {
		case parts > most:
			l.faults.Add(document.OutOfRange, own.AtKey(),
				fmt.Sprintf("with this machine, kits and copies make more than %d users, disks, ports and the like",
					maxParts),
				"split it into several definitions")
		case !fits:
			l.faults.Add(document.OutOfRange, own.AtKey(), fmt.Sprintf("the definition has more than %d machines",
				document.MaxMachines),
				"split it into several definitions")
		case m.Copies > 1:
			f.Machines = append(f.Machines, copies(m, l.faults)...)
		default:
			f.Machines = append(f.Machines, m)
		}
		l.faults.Leave()
		if !fits {
			break
		}
	}
	return nil
}

// partsOf counts a machine and the nouns that it has.
func partsOf(m *fleet.Machine) int {
	parts := 1 + len(m.Disks) + len(m.Media) + len(m.NICs) + len(m.Ports) + len(m.Users) + len(m.Shares) +
		len(m.Platforms) + len(m.Labels) + len(m.Accept) + len(m.Names)
	for _, user := range m.Users {
		parts += (len(user.Keys) + len(user.Groups)) / 8
	}
	for _, nic := range m.NICs {
		parts += len(nic.Routes)
	}
	if boot := m.FirstBoot; boot != nil {
		parts += len(boot.Files) + len(boot.Scripts) + len(boot.Sources) + (len(boot.Packages)+len(boot.Services))/8
	}
	return parts
}

func (l *loader) makeMachine(own, change document.Layer, varied bool, made bases) *fleet.Machine {
	names := kitNames(own)
	if varied {
		names = append(names, kitNames(change)...)
	}
	m := &fleet.Machine{}
	if len(names) > 0 {
		var kits []string
		l.flatten(names, nil, &kits)
		m = l.base(kits, made).Clone()
	} else {
		language.Reserve(m, own)
	}
	m.Name = own.Name()
	own.AtKey().Record(m, fleet.Itself)
	l.reader.ReadMachine(own, m)
	if varied {
		l.reader.ReadMachine(change, m)
		own.AtKey().Record(m, fleet.Itself)
	}
	l.reader.FinishMachine(m)
	return m
}

// sorted returns the keys of a map in order.
func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
