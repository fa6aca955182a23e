// Package nearest finds the known word that a misspelt one probably stands for, for
// remedies.
package nearest

import (
	"fmt"
	"strings"
)

// Word returns the known word that a misspelt one most likely stands for, or "".
func Word(word string, known []string) string {
	best, bestDistance := "", 3
	switch {
	case len(word) <= 1:
		bestDistance = 1 // any one letter is as near as any other
	case len(word) <= 4:
		bestDistance = 2
	}
	for _, candidate := range known {
		if strings.EqualFold(word, candidate) {
			return candidate
		}
		if d := distance(word, candidate, bestDistance); d < bestDistance {
			best, bestDistance = candidate, d
		}
	}
	if best == "" {
		// A word that contains the known one, or the other way round, is a good guess
		// too.
		for _, candidate := range known {
			if len(word) > 2 && len(candidate) > 2 && len(word) < 64 &&
				(strings.Contains(word, candidate) || strings.Contains(candidate, word)) {
				return candidate
			}
		}
	}
	return best
}

// distance counts the edits between two words, where swapping neighbours is one edit
// (the optimal string alignment distance). It gives up at limit.
func distance(a, b string, limit int) int {
	if len(a)-len(b) >= limit || len(b)-len(a) >= limit {
		return limit
	}
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(b)]
}

// Remedy suggests what to write instead of an unknown word: the known one that it
// most likely stands for, or the known ones.
func Remedy(word string, known []string) string {
	if near := Word(word, known); near != "" {
		return fmt.Sprintf("did you mean %q?", near)
	}
	if len(known) == 0 {
		return "none is defined"
	}
	if len(known) == 1 {
		return "the only one known is " + known[0]
	}
	return "known are " + Some(known)
}

// Some lists words. Beyond a dozen, it only says how many more there are.
func Some(words []string) string {
	const most = 12
	if len(words) > most {
		return strings.Join(words[:most], ", ") + fmt.Sprintf(" and %d more", len(words)-most)
	}
	return strings.Join(words, ", ")
}
