package language

import (
	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
	"stavren.example/stavren/internal/nearest"
)

// Definition is what a definition file says: a fleet without its machines, and the
// layers that machines consist of.
type Definition struct {
	fleet.Fleet
	// Kits, Machines and Variants are the entries of those sections, by name.
	Kits, Machines, Variants []document.Layer
}

// definitionTable is the top of a definition.
var definitionTable = newTable[Definition]("a definition", nil, func() []field[Definition] {
	return []field[Definition]{
		{
			key: "stavren", doc: "Version of the language.",
			example: "1", required: true,
			value: version(),
		},
		{
			key: "fleet", doc: "Name of everything in this file.",
			example: "tide-office", required: true,
			value: word(label, func(d *Definition) *string { return &d.Name }),
		},
		{
			key: "about", doc: "What the fleet is for.",
			example: "Tide gauges and almanac",
			value:   text(nil, func(d *Definition) *string { return &d.About }),
		},
		{
			key:     "use",
			doc:     "Other definitions to take systems, images, networks, keys, secrets, firewalls and kits from.",
			example: "[common.stavren.yaml]",
			value:   usedFiles(),
		},
		{
			key: "systems", doc: "Operating systems that the built-in list lacks, by name.",
			example: "{skerry-linux: {family: debian}}",
			value: named(systemTable, label, func(d *Definition) *[]*fleet.System { return &d.Systems },
				func(n *fleet.System) *string { return &n.Name }),
		},
		{
			key: "images", doc: "Bootable images by name.",
			example: "{bookworm: {os: debian-12, file: images/debian-12.qcow2}}",
			value: named(imageTable, label, func(d *Definition) *[]*fleet.Image { return &d.Images },
				func(n *fleet.Image) *string { return &n.Name }),
		},
		{
			key: "networks", doc: "Networks by name.",
			def: "one nat network, `inner`", example: "{quay: {mode: nat, subnet: 10.44.7.0/24}}",
			value: named(networkTable, label, func(d *Definition) *[]*fleet.Network { return &d.Networks },
				func(n *fleet.Network) *string { return &n.Name }),
		},
		{
			key: "keys", doc: "Public SSH keys by name.",
			example: "{ops: {file: keys/ops.pub}}",
			value: named(keyTable, label, func(d *Definition) *[]*fleet.Key { return &d.Keys },
				func(n *fleet.Key) *string { return &n.Name }),
		},
		{
			key: "secrets", doc: "Secrets by name: where they are read from, never what they are.",
			example: "{database: {env: TIDE_DATABASE_PASSWORD}}",
			value: named(secretTable, label, func(d *Definition) *[]*fleet.Secret { return &d.Secrets },
				func(n *fleet.Secret) *string { return &n.Name }),
		},
		{
			key: "firewalls", doc: "Sets of rules on incoming connections, by name.",
			example: "{office: {allow: [{port: 22/tcp, from: 198.51.100.0/24}]}}",
			value: named(firewallTable, label, func(d *Definition) *[]*fleet.Firewall { return &d.Firewalls },
				func(n *fleet.Firewall) *string { return &n.Name }),
		},
		{
			key:     "kits",
			doc:     "Partial machines to build machines from. A kit can set what a machine can, and use other kits.",
			example: "{shore: {image: bookworm}}",
			value:   layersOf("a kit", func(d *Definition) *[]document.Layer { return &d.Kits }, kitSchema, nil),
		},
		{
			key: "machines", doc: "Machines by name; a name becomes the host name.",
			example: "{almanac: {image: bookworm}}",
			value: layersOf("a machine", func(d *Definition) *[]document.Layer { return &d.Machines }, machinesSchema,
				func(prefix string) []Key { return machineTable.list(prefix + ".NAME.") }),
		},
		{
			key: "variants", doc: "Named sets of changes to machines, chosen with `--variant`.",
			example: "{rehearsal: {machines: {almanac: {public_address: false}}}}",
			value: layersOf("a variant", func(d *Definition) *[]document.Layer { return &d.Variants }, variantSchema,
				nil),
		},
		{
			key: "platforms", doc: "Settings for single platforms, by target name.",
			example: "{heat: {network: quay-net}}",
			value: named(platformTable, label, func(d *Definition) *[]*fleet.Platform { return &d.Platforms },
				func(n *fleet.Platform) *string { return &n.Name }),
		},
		{
			key: "limits", doc: "Capacity of the host and quotas of platforms, by target name or `host`.",
			example: "{host: {cpus: 8, memory: 16GiB, reserve: 50%}}",
			value: named(limitTable, label, func(d *Definition) *[]*fleet.Limit { return &d.Limits },
				func(n *fleet.Limit) *string { return &n.Name }),
		},
		{
			key: "accept", doc: "Warnings to accept, each with a reason.",
			example: "{open-to-world: Port 443 is public on purpose}",
			value:   pairs("rules", label, func(d *Definition) *[]fleet.Pair { return &d.Accept }),
		},
	}
})

// version is the version of the language.
func version() value[Definition] {
	const want = "the number " + Version
	return value[Definition]{
		name: want, schema: func() schema { return schema{"const": 1} },
		read: func(r *Reader, l document.Layer, _ *Definition) bool {
			switch {
			case !r.isScalar(l, want, Version):
				return false
			case l.Node.Value != Version:
				r.Add(document.UnknownVersion, l,
					"this version of stavren does not support version "+quoted(l.Node.Value)+" of the language",
					"write `stavren: "+Version+"`, or use a newer Stavren")
				return false
			case l.Node.Tag != "!!int":
				return r.wrongType(l, want, "remove the quotes")
			}
			return true
		},
	}
}

// usedFiles is the list of definitions that a definition uses. [Reader.Uses] returns
// them.
func usedFiles() value[Definition] {
	return value[Definition]{
		name: "list of paths", schema: listSchema,
		read: func(r *Reader, l document.Layer, _ *Definition) bool {
			return r.texts(l, "paths", "[common.stavren.yaml]", func(document.Layer) {})
		},
	}
}

// Uses returns the definitions that a definition uses: layers whose values are paths.
func (r *Reader) Uses(top document.Layer) []document.Layer {
	var paths []document.Layer
	if top.Node.Kind != yaml.MappingNode {
		return nil
	}
	for e := range top.Entries(r.Faults) {
		if e.Name() == "use" {
			r.Enter("use")
			r.texts(e, "paths", "[common.stavren.yaml]", func(path document.Layer) { paths = append(paths, path) })
			r.Leave()
		}
	}
	return paths
}

// layersOf is a section whose entries are kept as layers.
func layersOf(what string, listOf func(*Definition) *[]document.Layer, describe func() schema,
	below func(string) []Key) value[Definition] {
	return value[Definition]{
		name: "map of names", schema: describe, below: below,
		read: func(r *Reader, l document.Layer, into *Definition) bool {
			if !r.wantMap(l, "a map of names") {
				return false
			}
			for e := range l.Entries(r.Faults) {
				r.Enter(e.Name())
				r.checkName(e, label, what)
				r.Leave()
				*listOf(into) = append(*listOf(into), e)
			}
			return true
		},
	}
}

func kitSchema() schema { return mapSchema(reference("machine")) }

// machinesSchema requires no key of a machine, since any may come from a kit.
func machinesSchema() schema {
	return schema{"type": "object", "additionalProperties": reference("machine")}
}

func variantSchema() schema {
	return mapSchema(schema{"type": "object", "additionalProperties": false, "properties": schema{
		"about": textSchema(), "machines": mapSchema(reference("machine")),
	}})
}

// Variant returns the machines that a variant changes, and reports its other faults.
func (r *Reader) Variant(variant document.Layer) []document.Layer {
	var machines []document.Layer
	if !r.wantMap(variant, "a map with the key machines") {
		return nil
	}
	for section := range variant.Entries(r.Faults) {
		r.Enter(section.Name())
		switch section.Name() {
		case "about":
			r.isText(section)
		case "machines":
			if r.wantMap(section, "a map of machines") {
				for e := range section.Entries(r.Faults) {
					machines = append(machines, e)
				}
			}
		default:
			r.Add(document.UnknownKey, section.AtKey(), "a variant has no key "+quoted(section.Name()),
				nearest.Remedy(section.Name(), []string{"about", "machines"}))
		}
		r.Leave()
	}
	return machines
}

// ReadDefinition reads the top of a definition.
func (r *Reader) ReadDefinition(top document.Layer, into *Definition) {
	top.Record(into, fleet.Itself)
	definitionTable.read(r, top, into)
}

// FinishDefinition checks a definition after it has been read.
func (r *Reader) FinishDefinition(d *Definition) { definitionTable.validate(r, d) }

// isShared reports whether a definition provides a section to those that use it.
func isShared(section string) bool {
	switch section {
	case "use", "systems", "images", "networks", "keys", "secrets", "firewalls", "kits":
		return true
	}
	return false
}

// ReadShared reads the shared sections of a definition that is used. Its other
// sections are its own business, but its version has to be known.
func (r *Reader) ReadShared(top document.Layer, into *Definition) {
	if top.Node.Kind != yaml.MappingNode {
		r.Add(document.WrongType, top, "a definition must be a map, but this is "+document.Describe(top.Node),
			"start it with `stavren: "+Version+"`")
		return
	}
	fields := definitionTable.fields()
	for e := range top.Entries(r.Faults) {
		i, ok := fields.index[e.Name()]
		r.Enter(e.Name())
		switch {
		case !ok:
			r.Add(document.UnknownKey, e.AtKey(), "a definition has no key "+quoted(e.Name()),
				nearest.Remedy(e.Name(), fields.keys))
		case isShared(e.Name()):
			if fields.list[i].value.read(r, e, into) {
				e.Record(into, e.Name())
			}
		case e.Name() == "stavren":
			fields.list[i].value.read(r, e, into)
		}
		r.Leave()
	}
	if !top.Has("stavren") {
		r.Add(document.MissingKey, top, "a definition needs the key \"stavren\"", "add `stavren: "+Version+"`")
	}
}

// secretive marks a table in which people write secrets by mistake.
func secretive[T any, P noun[T]](t *table[T, P]) *table[T, P] {
	t.secret = true
	return t
}

var keyTable = secretive(withContent(newTable[fleet.Key]("a key", nil, func() []field[fleet.Key] {
	return contentFields(true, "\"ssh-ed25519 AAAA… ops\"", "keys/ops.pub",
		func(k *fleet.Key) *fleet.Content { return &k.Content })
})))

var secretTable = secretive(newTable("a secret", finishSecret, func() []field[fleet.Secret] {
	return []field[fleet.Secret]{
		{
			key: "env", doc: "Environment variable that has it.",
			example: "TIDE_DATABASE_PASSWORD",
			value:   text(environmentName, func(s *fleet.Secret) *string { return &s.Env }),
		},
		{
			key: "file", doc: "File that has it, relative to the definition; read when rendering.",
			example: "secrets/database",
			value: hostPath(func(s *fleet.Secret) *string { return &s.File },
				func(s *fleet.Secret) *string { return &s.Folder }),
		},
	}
}))

func finishSecret(r *Reader, s *fleet.Secret) {
	if (s.Env == "") == (s.File == "") {
		r.AddAt(document.MissingKey, s.PlaceOf(fleet.Itself), r.Here()+" needs exactly one of env and file",
			"write either `env: NAME` or `file: PATH`")
	}
}

var environmentName = matching(`^[A-Za-z_][A-Za-z0-9_]*$`, "is not the name of an environment variable")
