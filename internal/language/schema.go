package language

import (
	"encoding/json"
	"fmt"
	"slices"
	"sort"

	"go.yaml.in/yaml/v4"
)

// schema is a JSON Schema, version 2020-12, of one value.
type schema map[string]any

// Schema returns the JSON Schema of the language, for editors. The reader and the
// checks find what it can't express, such as names that aren't defined.
func Schema() ([]byte, error) {
	// Machines are described once: kits and variants have the same keys.
	definitions := schema{"machine": partial(machineTable.schema())}
	top := definitionTable.schema()
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

// partial is a machine whose required keys may come from another layer.
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
	for _, f := range t.fields().list {
		value := schema{}
		if f.value.schema != nil {
			value = f.value.schema()
		}
		described := schema{}
		for key, part := range value {
			described[key] = part
		}
		if f.value.clear != nil {
			// The word none removes what a kit contributed.
			described = schema{"anyOf": []any{value, schema{"const": "none"}}}
		}
		described["description"] = f.doc
		if f.def != "" {
			described["description"] = f.doc + " Default: " + f.def + "."
			if def, ok := plainDefault(f.def, value); ok {
				described["default"] = def
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

// plainDefault returns a default that can be written in a definition as it is, rather
// than one that is described in words.
func plainDefault(text string, value schema) (any, bool) {
	var parsed any
	if err := yaml.Load([]byte(text), &parsed); err != nil {
		return nil, false
	}
	switch parsed := parsed.(type) {
	case bool:
		return parsed, value["type"] == "boolean"
	case int:
		return parsed, value["type"] == "integer"
	case string:
		words, isChoice := value["enum"].([]string)
		return parsed, isChoice && slices.Contains(words, parsed)
	}
	return nil, false
}

func textSchema() schema { return schema{"type": "string"} }

// oneOrMoreSchema is a text, or a list of texts.
func oneOrMoreSchema() schema { return schema{"anyOf": []any{textSchema(), listSchema()}} }

func listSchema() schema { return schema{"type": "array", "items": textSchema()} }

func amountSchema() schema {
	return schema{"type": "string", "pattern": `^[0-9]+ *([KMGT]iB|[KMGT]B|B)$`}
}

// mapSchema is a map of names. A noun may be left empty or removed.
func mapSchema(value schema) schema {
	return schema{"type": "object",
		"additionalProperties": schema{"anyOf": []any{value, schema{"type": "null"}, schema{"const": "none"}}}}
}

func reference(name string) schema { return schema{"$ref": "#/$defs/" + name} }
