package stavren_test

import (
	"context"
	"errors"
	"strings"
	"sync/atomic"
	"testing"
	"testing/fstest"

	"stavren.example/stavren"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/benchfleet"
	"stavren.example/stavren/render"
)

// TestNotCompleted gives every function a fleet built in Go that was not completed.
func TestNotCompleted(t *testing.T) {
	image := &fleet.Image{Name: "bookworm", OS: "debian-12"}
	built := func() *fleet.Fleet {
		return &fleet.Fleet{Name: "tides", Images: []*fleet.Image{image},
			Machines: []*fleet.Machine{{Name: "almanac", Image: "bookworm"}}}
	}
	grown := built()
	grown.Complete()
	grown.Machines = append(grown.Machines, &fleet.Machine{Name: "store", Image: "bookworm"})
	for name, f := range map[string]*fleet.Fleet{"none": nil, "built": built(), "changed since": grown} {
		for _, target := range stavren.Targets() {
			t.Run(name+" "+target.Name, func(t *testing.T) {
				_, check := stavren.Check(t.Context(), stavren.CheckOptions{}, f)
				_, needs := stavren.Needs(target, f)
				_, files := stavren.Render(t.Context(), f, target.Name, stavren.RenderOptions{})
				_, all := render.All(t.Context(), target, f, render.Options{})
				_, steps := render.Steps(target, f, render.Options{})
				for i, err := range []error{check, needs, files, all, steps, stavren.Refusal(t.Context(), target, f)} {
					if err == nil || !strings.Contains(err.Error(), "completed") && f != nil {
						t.Errorf("call %d: error %v", i, err)
					}
				}
			})
		}
	}
}

// countdown is a context that ends once it was asked a number of times.
type countdown struct {
	context.Context
	left atomic.Int64
}

func newCountdown(left int) *countdown {
	c := &countdown{Context: context.Background()}
	c.left.Store(int64(left))
	return c
}

func (c *countdown) Err() error {
	if c.left.Add(-1) < 0 {
		return context.Canceled
	}
	return nil
}

// TestContextEnds ends the context at ever later moments of loading and checking a
// large definition, until nothing is left to end. Both ask often.
func TestContextEnds(t *testing.T) {
	const name = "harbour-wide.stavren.yaml"
	for kind, data := range map[string][]byte{
		"in pieces": benchfleet.Definition(2000),
		"whole":     append([]byte("{"), append([]byte(strings.Repeat("a: [b, c],\n", 50000)), '}')...),
		"filled": []byte("stavren: 1\nfleet: x\nimages: {i: {os: debian-12}}\nmachines: {a: {image: i, copies: 500, " +
			"first_boot: {files: {/f: {fill: true, text: '{{ self `name` }}'}}}}}\n"),
	} {
		t.Run(kind, func(t *testing.T) {
			files := fstest.MapFS{name: {Data: data}}
			asked := 0
			for left := 0; ; left = 2*left + 1 {
				f, err := stavren.Load(newCountdown(left), files, name, stavren.LoadOptions{})
				if err == nil || stavren.Findings(err) != nil {
					asked = left
					if f != nil {
						checkEnds(t, f)
					}
					break
				}
				if !errors.Is(err, context.Canceled) {
					t.Fatalf("after %d: %v", left, err)
				}
			}
			if asked < 100 {
				t.Errorf("the context was asked fewer than %d times", asked)
			}
		})
	}
}

func checkEnds(t *testing.T, f *fleet.Fleet) {
	t.Helper()
	for _, left := range []int{0, 10, 300} {
		_, err := stavren.Check(newCountdown(left), stavren.CheckOptions{}, f)
		if !errors.Is(err, context.Canceled) {
			t.Errorf("checking, after %d: %v", left, err)
		}
	}
}
