package source

import (
	"encoding/json"
	"fmt"
	"sort"

	"go.yaml.in/yaml/v4"
)

// schema is a JSON Schema, version 2020-12, of one value.
type schema map[string]any

// Schema returns the JSON Schema of the language, for editors. What it cannot
// say, such as which names are defined, the reader and the checks say.
func Schema() ([]byte, error) {
	// A machine is described once: kits and variants say the same things.
	definitions := schema{"machine": partial(machineTable.schema())}
	top := fleetTable.schema()
	top["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	top["title"] = "Stavren definition"
	top["description"] = "Definition of virtual machines, version " + Version + " of the language."
	top["$defs"] = definitions
	text, err := json.MarshalIndent(top, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("writing the schema: %w", err)
	}
	return append(text, '\n'), nil
}

// partial is a machine whose required keys another layer may bring.
func partial(machine schema) schema {
	without := schema{}
	for key, value := range machine {
		if key != "required" {
			without[key] = value
		}
	}
	return without
}

func (t *table[T, P]) schema() schema {
	properties := schema{}
	var required []string
	for _, f := range t.fields {
		value := schema{}
		if f.kind.schema != nil {
			value = f.kind.schema()
		}
		described := schema{}
		for key, part := range value {
			described[key] = part
		}
		if f.kind.clear != nil {
			// The word none takes away what a kit brought.
			described = schema{"anyOf": []any{value, schema{"const": "none"}}}
		}
		described["description"] = f.doc
		if f.standard != "" {
			described["description"] = f.doc + " Default: " + f.standard + "."
			if standard, is := plainDefault(f.standard, value); is {
				described["default"] = standard
			}
		}
		var example any
		if err := yaml.Load([]byte(f.example), &example); err == nil {
			described["examples"] = []any{example}
		}
		properties[f.key] = described
		if f.required {
			required = append(required, f.key)
		}
	}
	s := schema{"type": "object", "properties": properties, "additionalProperties": false}
	if len(required) > 0 {
		sort.Strings(required)
		s["required"] = required
	}
	return s
}

// plainDefault is a default that can stand in a definition as it is, and not one
// that only words describe.
func plainDefault(standard string, value schema) (any, bool) {
	var parsed any
	if err := yaml.Load([]byte(standard), &parsed); err != nil {
		return nil, false
	}
	switch parsed := parsed.(type) {
	case bool:
		return parsed, value["type"] == "boolean"
	case int:
		return parsed, value["type"] == "integer"
	case string:
		words, isChoice := value["enum"].([]string)
		return parsed, isChoice && contains(words, parsed)
	}
	return nil, false
}

func textSchema() schema { return schema{"type": "string"} }

func listSchema() schema { return schema{"type": "array", "items": textSchema()} }

func amountSchema() schema {
	return schema{"type": "string", "pattern": `^[0-9]+ *([KMGT]iB|[KMGT]B|B)$`}
}

// mapSchema is a map of names. A noun may be left empty or taken away.
func mapSchema(value schema) schema {
	return schema{"type": "object", "additionalProperties": schema{"anyOf": []any{value, schema{"type": "null"}, schema{"const": "none"}}}}
}

func reference(name string) schema { return schema{"$ref": "#/$defs/" + name} }
