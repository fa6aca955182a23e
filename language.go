package stavren

import "stavren.example/stavren/internal/language"

// LanguageKey documents one key of the language.
type LanguageKey struct {
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

// LanguageKeys returns every key of the language. Each map comes before its keys.
func LanguageKeys() []LanguageKey {
	var keys []LanguageKey
	for _, key := range language.Keys() {
		keys = append(keys, LanguageKey(key))
	}
	return keys
}

// Schema returns the JSON Schema (2020-12) of the language, for editors.
func Schema() ([]byte, error) { return language.Schema() }
