package nearest_test

import (
	"strings"
	"testing"

	"stavren.example/stavren/internal/nearest"
)

func TestWord(t *testing.T) {
	known := []string{"images", "machines", "networks", "cpus", "memory", "amd64", "arm64", "TCP", "a"}
	for word, want := range map[string]string{
		"imgaes": "images", "image": "images", "machine": "machines", "netwroks": "networks", "cpu": "cpus",
		"mem":   "memory",
		"amd46": "amd64", "tcp": "TCP", "boats": "", "7": "", "b": "", "": "", strings.Repeat("x", 10000): "",
	} {
		t.Run(word, func(t *testing.T) {
			if got := nearest.Word(word, known); got != want {
				t.Errorf("%.20q: got %q, want %q", word, got, want)
			}
		})
	}
}

func TestRemedy(t *testing.T) {
	many := strings.Fields("a1 b2 c3 d4 e5 f6 g7 h8 i9 j10 k11 l12 m13 n14")
	for _, c := range []struct {
		word  string
		known []string
		want  string
	}{
		{"imgaes", []string{"images"}, `did you mean "images"?`},
		{"boats", nil, "none is defined"},
		{"boats", []string{"images"}, "the only one known is images"},
		{"boats", []string{"images", "keys"}, "known are images, keys"},
		{"boats", many, "known are a1, b2, c3, d4, e5, f6, g7, h8, i9, j10, k11, l12 and 2 more"},
	} {
		t.Run(c.word, func(t *testing.T) {
			if got := nearest.Remedy(c.word, c.known); got != c.want {
				t.Errorf("got %q, want %q", got, c.want)
			}
		})
	}
}
