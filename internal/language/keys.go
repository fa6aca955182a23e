package language

// Key documents one key of the language.
type Key struct {
	// Path leads to the key from the top of a definition. NAME stands for names that
	// people choose.
	Path string
	// Type is the type of its value, in words.
	Type string
	// Doc says in a sentence what it means.
	Doc string
	// Default says what applies if it is left out, or is empty.
	Default string
	// Example is an example of its value.
	Example  string
	Required bool
}

// Keys returns every key of the language. Each map comes before its keys. Kits and
// variants have the keys of machines, which are listed once.
func Keys() []Key { return definitionTable.list("") }

func (t *table[T, P]) list(prefix string) []Key {
	var keys []Key
	for _, f := range t.fields().list {
		keys = append(keys, Key{prefix + f.key, f.value.name, f.doc, f.def, f.example, f.required})
		if f.value.below != nil {
			keys = append(keys, f.value.below(prefix+f.key)...)
		}
	}
	return keys
}
