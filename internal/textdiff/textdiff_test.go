package textdiff

import (
	"strings"
	"testing"
)

func TestUnified(t *testing.T) {
	numbers := func(change map[int]string) string {
		var list []string
		for i := range 30 {
			line := "line " + string(rune('a'+i%26))
			if other, ok := change[i]; ok {
				line = other
			}
			list = append(list, line)
		}
		return strings.Join(list, "\n") + "\n"
	}
	plain := numbers(nil)
	for _, c := range []struct{ name, got, want string }{
		{"equal", plain, ""},
		{"one line", numbers(map[int]string{10: "tide"}),
			"--- f\n+++ got\n@@ -8,7 +8,7 @@\n line h\n line i\n line j\n-line k\n+tide\n line l\n line m\n line n\n"},
		{"two hunks", numbers(map[int]string{0: "ebb", 29: "flood"}),
			"--- f\n+++ got\n@@ -1,4 +1,4 @@\n-line a\n+ebb\n line b\n line c\n line d\n" +
				"@@ -27,4 +27,4 @@\n line a\n line b\n line c\n-line d\n+flood\n"},
		{"line added", "new\n" + plain, "--- f\n+++ got\n@@ -1,3 +1,4 @@\n+new\n line a\n line b\n line c\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := Unified("f", plain, c.got); got != c.want {
				t.Errorf("got:\n%s\nwant:\n%s", got, c.want)
			}
		})
	}
	if got := strings.Count(Unified("f", "a\n", strings.Repeat("b\n", 5000)), "\n"); got != 5004 {
		t.Errorf("a long text gives %d lines", got)
	}
}
