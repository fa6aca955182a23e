package render_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/render"
)

func many(n int) *fleet.Fleet {
	f := &fleet.Fleet{Name: "harbour-wide"}
	for i := range n {
		f.Machines = append(f.Machines, &fleet.Machine{Name: fmt.Sprintf("gauge-%d", i), Image: "i"})
	}
	f.Complete()
	return f
}

// list is a target that a program defines.
var list = render.Target{
	Name: "list",
	Machine: func(_ *render.Job, m *fleet.Machine) ([]render.File, error) {
		return []render.File{{Name: m.Name, Data: []byte(m.HostName)}}, nil
	},
	Fleet: func(job *render.Job) ([]render.File, error) {
		return []render.File{{Name: "all", Data: []byte(job.Fleet.Name)}}, nil
	},
}

func TestStreamKeepsOrder(t *testing.T) {
	files, err := render.All(context.Background(), list, many(500), render.Options{})
	if err != nil || len(files) != 501 || files[500].Name != "all" {
		t.Fatalf("%d files, %v", len(files), err)
	}
	for i, file := range files[:500] {
		if file.Name != fmt.Sprintf("gauge-%d", i) {
			t.Fatalf("file %d is %s", i, file.Name)
		}
	}
}

func TestStreamNarrows(t *testing.T) {
	files, err := render.All(context.Background(), list, many(20),
		render.Options{Machines: []string{"gauge-7", "gauge-3", "gauge-7"}})
	if err != nil || len(files) != 3 || files[0].Name != "gauge-7" || files[1].Name != "gauge-3" {
		t.Errorf("%v, %v", files, err)
	}
	_, err = render.All(context.Background(), list, many(20), render.Options{Machines: []string{"gouge-7"}})
	if err == nil || !strings.Contains(err.Error(), "gauge-7") {
		t.Errorf("error %v", err)
	}
}

func TestStreamStopsAtFirstError(t *testing.T) {
	var rendered atomic.Int32
	failing := list
	failing.Machine = func(_ *render.Job, m *fleet.Machine) ([]render.File, error) {
		if rendered.Add(1); m.Name == "gauge-3" {
			return nil, errors.New("no ink")
		}
		return []render.File{{Name: m.Name}}, nil
	}
	var delivered []string
	err := render.Stream(context.Background(), failing, many(10000), render.Options{}, func(file render.File) error {
		delivered = append(delivered, file.Name)
		return nil
	})
	if err == nil || err.Error() != "rendering machine gauge-3 for list: no ink" {
		t.Errorf("error %v", err)
	}
	if len(delivered) != 3 || rendered.Load() > 1000 {
		t.Errorf("delivered %v after %d machines", delivered, rendered.Load())
	}
	full := errors.New("disk full")
	if err := render.Stream(context.Background(), list, many(10), render.Options{},
		func(render.File) error { return full }); !errors.Is(err, full) {
		t.Errorf("error %v", err)
	}
}

// fates returns a list of fates as a function.
func fates(list []render.Fate) func() []render.Fate {
	return func() []render.Fate { return list }
}

func TestNotes(t *testing.T) {
	target := render.Target{Name: "x", Fates: func() []render.Fate {
		return append(render.Carry("machine.image"),
			render.Fate{Field: "user.admin", Outcome: render.Adapted, How: "as a group"},
			render.Fate{Field: "disk.size", Outcome: render.LeftOut, How: "no disks there"},
			render.Fate{Field: "image.file", Outcome: render.LeftOut, How: "no files there"},
			render.Fate{Field: "resources.cpus", Outcome: render.LeftOut, How: "no processors there"},
		)
	}}
	f := many(3)
	f.Images = []*fleet.Image{{Name: "i", OS: "debian-12"}}
	for _, m := range f.Machines[:2] {
		m.Users = []*fleet.User{{Name: "mira", Admin: fleet.AdminWithPassword},
			{Name: "eyd", Admin: fleet.AdminWithPassword}}
	}
	f.Machines[2].Resources = fleet.Resources{CPUs: 4}
	f.Complete()
	var got []string
	for _, note := range render.Notes(target, f, render.Options{}) {
		got = append(got, note.Field+" "+strings.Join(note.Where, ","))
	}
	// The size of a disk and the file of an image are defaults.
	if want := "user.admin gauge-0,gauge-1; resources.cpus gauge-2"; strings.Join(got, "; ") != want {
		t.Errorf("got %q, want %q", got, want)
	}
	if notes := render.Notes(target, f, render.Options{Machines: []string{"gauge-2"}}); len(notes) != 1 ||
		notes[0].Field != "resources.cpus" {
		t.Errorf("narrowed: %+v", notes)
	}
}

// TestOverrides checks that a machine's own fate replaces the target's only for it,
// and that what is carried after all isn't reported.
func TestOverrides(t *testing.T) {
	target := render.Target{Name: "x", Fates: fates(render.LeaveOut("no processors there", "resources.cpus")),
		Overrides: func(job *render.Job, m *fleet.Machine) []render.Fate {
			switch m.Name {
			case "gauge-0":
				return render.Adapt("by size", "resources.cpus", "resources.memory")
			case "gauge-1":
				return render.Carry("resources.cpus")
			}
			return nil
		}}
	f := many(3)
	for _, m := range f.Machines {
		m.Resources = fleet.Resources{CPUs: 4}
	}
	f.Complete()
	var got []string
	for _, note := range render.Notes(target, f, render.Options{}) {
		got = append(got, note.Outcome.String()+" "+note.How+" "+strings.Join(note.Where, ","))
	}
	if want := "left out no processors there gauge-2; adapted by size gauge-0"; strings.Join(got, "; ") != want {
		t.Errorf("got %q, want %q", got, want)
	}
}

func TestMerge(t *testing.T) {
	got := render.Merge(render.Carry("a", "b"), render.Adapt("x", "c"), render.LeaveOut("y", "b"))
	if len(got) != 3 || got[1] != (render.Fate{Field: "b", Outcome: render.LeftOut, How: "y"}) || got[2].Field != "c" {
		t.Errorf("got %+v", got)
	}
}

func TestPaths(t *testing.T) {
	plain := &render.Job{}
	moved := &render.Job{Options: render.Options{Output: "/srv/out",
		FilePath: func(folder, file string) string { return "../" + folder + "/" + file }}}
	for _, c := range []struct {
		job                *render.Job
		file               string
		relative, absolute string
	}{
		{plain, "a.iso", "../images/a.iso", "/OUTPUT/images/a.iso"},
		{plain, "/srv/a.iso", "/srv/a.iso", "/srv/a.iso"},
		{moved, "a.iso", "../../images/a.iso", "/srv/images/a.iso"},
	} {
		t.Run(c.file, func(t *testing.T) {
			if relative, absolute := c.job.Path("images", c.file),
				c.job.AbsolutePath("images", c.file); relative != c.relative || absolute != c.absolute {
				t.Errorf("%s: %s and %s", c.file, relative, absolute)
			}
		})
	}
}

func TestValidate(t *testing.T) {
	var all []render.Fate
	for _, field := range render.Fields() {
		all = append(all, render.Fate{Field: field})
	}
	if err := (render.Target{Name: "x", Fates: fates(all)}).Validate(); err != nil {
		t.Error(err)
	}
	for name, c := range map[string]struct {
		fates []render.Fate
		want  string
	}{
		"missing": {all[1:], all[0].Field + " has 0 fates"},
		"twice":   {append(all[:len(all):len(all)], all[0]), all[0].Field + " has 2 fates"},
		"unknown": {append(all[:len(all):len(all)], render.Fate{Field: "machine.sails"}),
			"machine.sails is not a field of a definition"},
		"unspoken": {append(all[1:len(all):len(all)], render.Fate{Field: all[0].Field, Outcome: render.LeftOut}),
			"left out without saying how or why"},
	} {
		t.Run(name, func(t *testing.T) {
			if err := (render.Target{Name: "x", Fates: fates(c.fates)}).Validate(); err == nil ||
				!strings.Contains(err.Error(), c.want) {
				t.Errorf("%s: %v", name, err)
			}
		})
	}
}

func TestFields(t *testing.T) {
	fields := strings.Join(render.Fields(), " ")
	for _, field := range []string{"fleet.about", "machine.image", "resources.memory", "disk.filesystem",
		"nic.hardware_address", "first_boot.packages", "script.when"} {
		if !strings.Contains(" "+fields+" ", " "+field+" ") {
			t.Errorf("%s is missing from %s", field, fields)
		}
	}
	for _, group := range []string{"fleet.machines", "machine.disks", "machine.first_boot", "machine.resources"} {
		if strings.Contains(" "+fields+" ", " "+group+" ") {
			t.Errorf("%s is a group, not a field", group)
		}
	}
}

// TestNothingRunsAfterwards changes the fleet as soon as rendering has failed. The race
// detector reports renderers that are still running.
func TestNothingRunsAfterwards(t *testing.T) {
	f := &fleet.Fleet{Name: "tides"}
	for i := range 64 {
		f.Machines = append(f.Machines, &fleet.Machine{Name: fmt.Sprint("m", i)})
	}
	f.Complete()
	var running atomic.Int32
	target := render.Target{Name: "slow", Machine: func(_ *render.Job, m *fleet.Machine) ([]render.File, error) {
		running.Add(1)
		defer running.Add(-1)
		if m.Name == "m0" {
			return nil, errors.New("no")
		}
		time.Sleep(5 * time.Millisecond)
		return []render.File{{Name: m.Name, Data: []byte(m.About)}}, nil
	}}
	if _, err := render.All(context.Background(), target, f, render.Options{}); err == nil {
		t.Error("no error")
	}
	if n := running.Load(); n > 0 {
		t.Errorf("%d renderers are running", n)
	}
	for _, m := range f.Machines {
		m.About = "changed"
	}
}

// TestPanicIsAnError checks that a caller's own target, and a caller's own way of
// reading secrets, can't end the process.
func TestPanicIsAnError(t *testing.T) {
	f := &fleet.Fleet{Name: "tides", Machines: []*fleet.Machine{{Name: "m"}}, Secrets: []*fleet.Secret{{Name: "s"}}}
	f.Complete()
	panics := func() ([]render.File, error) { panic("low water") }
	secrets := render.Options{Secrets: func(*fleet.Secret) (string, error) { panic("low water") }}
	for name, target := range map[string]render.Target{
		"machine": {Machine: func(*render.Job, *fleet.Machine) ([]render.File, error) { return panics() }},
		"fleet":   {Fleet: func(*render.Job) ([]render.File, error) { return panics() }},
		"secrets": {Machine: func(job *render.Job, _ *fleet.Machine) ([]render.File, error) {
			_, err := job.Secret("s")
			return nil, err
		}},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := render.All(context.Background(), target, f, secrets)
			if err == nil || !strings.Contains(err.Error(), "low water") {
				t.Errorf("the error is %v", err)
			}
		})
	}
}
