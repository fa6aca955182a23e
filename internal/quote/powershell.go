package quote

import "strings"

// PowerShell quotes a text as a literal string (about_Quoting_Rules: within single
// quotes only a single quote is special, and two stand for one). The language treats
// several typographic quotes like the plain one.
func PowerShell(text string) string {
	return "'" + strings.NewReplacer("'", "''", "\u2018", "\u2018\u2018", "\u2019", "\u2019\u2019", "\u201a",
		"\u201a\u201a", "\u201b", "\u201b\u201b").Replace(text) + "'"
}
