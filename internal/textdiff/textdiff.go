// Package textdiff shows the difference between two texts, for tests.
package textdiff

import (
	"fmt"
	"strings"
)

// around is how many unchanged lines surround a change.
const around = 3

// most is how many changes are shown.
const most = 20

// longest is how many lines are compared line by line. Beyond it, the whole middle
// counts as one change.
const longest = 4000

// Unified returns the difference between two texts in the unified format, or "" if
// they are equal.
func Unified(name, want, got string) string {
	if want == got {
		return ""
	}
	edits := compare(lines(want), lines(got))
	var text strings.Builder
	fmt.Fprintf(&text, "--- %s\n+++ got\n", name)
	hunks := 0
	for at := 0; at < len(edits); {
		if edits[at].sign == ' ' {
			at++
			continue
		}
		start := max(0, at-around)
		end, unchanged := at, 0
		for end < len(edits) && unchanged <= 2*around {
			if edits[end].sign == ' ' {
				unchanged++
			} else {
				unchanged = 0
			}
			end++
		}
		end -= max(0, unchanged-around)
		if hunks++; hunks > most {
			text.WriteString("… and more changes\n")
			break
		}
		hunk(&text, edits[start:end])
		at = end
	}
	return text.String()
}

// edit is a line that both texts have (' '), only the wanted one ('-') or only the
// other one ('+'), with its numbers in both.
type edit struct {
	sign      byte
	line      string
	want, got int
}

func hunk(text *strings.Builder, edits []edit) {
	wanted, gotten := 0, 0
	for _, e := range edits {
		if e.sign != '+' {
			wanted++
		}
		if e.sign != '-' {
			gotten++
		}
	}
	fmt.Fprintf(text, "@@ -%d,%d +%d,%d @@\n", edits[0].want, wanted, edits[0].got, gotten)
	for _, e := range edits {
		fmt.Fprintf(text, "%c%s\n", e.sign, shortened(e.line))
	}
}

// widest is how much of a line is shown, in bytes. Encoded files have very long ones.
const widest = 300

func shortened(line string) string {
	if len(line) <= widest {
		return line
	}
	return fmt.Sprintf("%s… (%d bytes)", strings.ToValidUTF8(line[:widest], ""), len(line))
}

func lines(text string) []string {
	if text == "" {
		return nil
	}
	return strings.Split(strings.TrimSuffix(text, "\n"), "\n")
}

// compare finds a longest common subsequence of lines between what both texts have
// at their beginnings and ends.
func compare(want, got []string) []edit {
	var edits []edit
	add := func(sign byte, line string, i, j int) { edits = append(edits, edit{sign, line, i + 1, j + 1}) }
	first := 0
	for first < len(want) && first < len(got) && want[first] == got[first] {
		add(' ', want[first], first, first)
		first++
	}
	lastWant, lastGot := len(want), len(got)
	for lastWant > first && lastGot > first && want[lastWant-1] == got[lastGot-1] {
		lastWant, lastGot = lastWant-1, lastGot-1
	}
	a, b := want[first:lastWant], got[first:lastGot]
	i, j := 0, 0
	if len(a) <= longest && len(b) <= longest {
		common := commonLengths(a, b)
		for i < len(a) && j < len(b) {
			switch {
			case a[i] == b[j]:
				add(' ', a[i], first+i, first+j)
				i, j = i+1, j+1
			case common[i+1][j] >= common[i][j+1]:
				add('-', a[i], first+i, first+j)
				i++
			default:
				add('+', b[j], first+i, first+j)
				j++
			}
		}
	}
	for ; i < len(a); i++ {
		add('-', a[i], first+i, first+j)
	}
	for ; j < len(b); j++ {
		add('+', b[j], first+i, first+j)
	}
	for k := lastWant; k < len(want); k++ {
		add(' ', want[k], k, k-lastWant+lastGot)
	}
	return edits
}

// commonLengths returns the length of the longest common subsequence of every pair
// of endings of two texts.
func commonLengths(a, b []string) [][]int {
	lengths := make([][]int, len(a)+1)
	for i := range lengths {
		lengths[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if a[i] == b[j] {
				lengths[i][j] = lengths[i+1][j+1] + 1
			} else {
				lengths[i][j] = max(lengths[i+1][j], lengths[i][j+1])
			}
		}
	}
	return lengths
}
