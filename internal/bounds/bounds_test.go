// Package bounds tests that a definition of a megabyte, whatever it says, is loaded and
// checked within bounds, or refused. The tests count what is allocated instead of
// looking at a clock. With the build tag steps, they also count every statement that
// runs; see steps_test.go.
package bounds

import (
	"runtime"
	"testing"
	"testing/fstest"

	"stavren.example/stavren"
)

// maxAllocated bounds what loading and checking allocates, in bytes. What is in use at
// one time is less: the goal is 256 MiB.
const maxAllocated = 800 << 20

func keys() []stavren.LanguageKey { return stavren.LanguageKeys() }

// loadAndCheck reads a definition as check does.
func loadAndCheck(t *testing.T, text string) {
	t.Helper()
	const name = "x.stavren.yaml"
	f, err := stavren.Load(t.Context(), fstest.MapFS{name: {Data: []byte(text)}}, name, stavren.LoadOptions{})
	if err != nil {
		if found := stavren.Findings(err); found == nil || len(found) > 101 {
			t.Errorf("%d findings, %.300v", len(found), err)
		}
		return
	}
	if _, err := stavren.Check(t.Context(), stavren.CheckOptions{}, f); err != nil {
		t.Error(err)
	}
}

func TestAttacks(t *testing.T) { bounded(t, attacks()) }
func TestSweeps(t *testing.T)  { bounded(t, sweeps()) }

func bounded(t *testing.T, list []attack) {
	for i, attack := range list {
		if raceDetector && i%20 != 0 {
			continue
		}
		t.Run(attack.name, func(t *testing.T) {
			if len(attack.text) > 3<<20 {
				t.Fatalf("the definition has %d bytes", len(attack.text))
			}
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			loadAndCheck(t, attack.text)
			runtime.ReadMemStats(&after)
			if used := after.TotalAlloc - before.TotalAlloc; used > maxAllocated {
				t.Errorf("allocated %d MiB", used>>20)
			}
		})
	}
}
