// Package quote writes text so that another language reads it back unchanged. There
// is one file per language, each tested with a real reader of it.
package quote

import (
	"strings"
)

// Shell quotes a text as one argument for a POSIX shell (XCU 2.2.2: within single
// quotes every character stands for itself). A text must not contain NUL, which no
// shell can represent.
func Shell(text string) string {
	if text != "" && text[0] != '=' && strings.Trim(text, bareShell) == "" {
		return text
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}

// bareShell holds the characters that no shell gives a meaning, so that most words need
// no quotes. A leading = has one in zsh.
const bareShell = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_@%+:,./=-"

// Comment writes text as lines of a comment, each after the mark. Control characters
// become spaces, so that no line leaves the comment.
func Comment(mark, text string) string {
	var lines strings.Builder
	for _, line := range strings.FieldsFunc(text, func(char rune) bool { return char == '\n' || char == '\r' }) {
		line = strings.Map(func(char rune) rune {
			if char < ' ' || char == 0x7f || char == 0x85 || char == 0x2028 || char == 0x2029 {
				return ' '
			}
			return char
		}, line)
		lines.WriteString(mark + " " + strings.TrimSpace(line) + "\n")
	}
	return lines.String()
}
