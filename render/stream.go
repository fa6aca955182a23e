package render

import (
	"context"
	"fmt"
	"runtime"
	"runtime/debug"
	"slices"
	"sync"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/nearest"
)

// Stream renders a fleet and delivers each file, machine by machine in the order of
// the fleet, while later machines are still being rendered. Only a few machines'
// files are in memory at once. It stops at the first error.
func Stream(ctx context.Context, target Target, f *fleet.Fleet, options Options, deliver func(File) error) error {
	job := &Job{Fleet: f, Options: options}
	machines, err := chosen(f, options.Machines)
	if err != nil {
		return err
	}
	if target.Machine != nil {
		if err := streamMachines(ctx, target, job, machines, deliver); err != nil {
			return err
		}
	}
	if target.Fleet != nil {
		files, err := protect(func() ([]File, error) { return target.Fleet(job) })
		if err != nil {
			return fmt.Errorf("rendering %s: %w", target.Name, err)
		}
		return deliverAll(files, deliver)
	}
	return nil
}

// All renders a fleet into memory.
func All(ctx context.Context, target Target, f *fleet.Fleet, options Options) ([]File, error) {
	var files []File
	err := Stream(ctx, target, f, options, func(file File) error {
		files = append(files, file)
		return nil
	})
	return files, err
}

// Steps returns what to do with the files of a target, for the machines that the
// options choose.
func Steps(target Target, f *fleet.Fleet, options Options) ([]Step, error) {
	machines, err := chosen(f, options.Machines)
	if err != nil || target.Steps == nil {
		return nil, err
	}
	return target.Steps(&Job{Fleet: f, Options: options}, machines), nil
}

func chosen(f *fleet.Fleet, names []string) ([]*fleet.Machine, error) {
	if err := f.CheckComplete(); err != nil {
		return nil, err
	}
	if len(names) == 0 {
		return f.Machines, nil
	}
	var machines []*fleet.Machine
	for _, name := range names {
		m := f.Machine(name)
		if m == nil {
			var known []string
			for _, m := range f.Machines {
				known = append(known, m.Name)
			}
			return nil, fmt.Errorf("fleet %s has no machine %q; %s", f.Name, name, nearest.Remedy(name, known))
		}
		if !slices.Contains(machines, m) {
			machines = append(machines, m)
		}
	}
	return machines, nil
}

// streamMachines renders on every processor and delivers in order: each machine has
// its own channel in a bounded queue of channels.
func streamMachines(ctx context.Context, target Target, job *Job, machines []*fleet.Machine,
	deliver func(File) error) error {
	type result struct {
		files []File
		err   error
	}
	// The caller may change the fleet as soon as this returns, so nothing may still run.
	var running sync.WaitGroup
	defer running.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	workers := runtime.GOMAXPROCS(0)
	queue := make(chan chan result, workers)
	running.Go(func() {
		defer close(queue)
		for _, m := range machines {
			slot := make(chan result, 1)
			select {
			case queue <- slot:
			case <-ctx.Done():
				return
			}
			running.Go(func() {
				files, err := protect(func() ([]File, error) { return target.Machine(job, m) })
				if err != nil {
					err = fmt.Errorf("rendering machine %s for %s: %w", m.Name, target.Name, err)
				}
				slot <- result{files, err}
			})
		}
	})
	for slot := range queue {
		r := <-slot
		if r.err != nil {
			return r.err
		}
		if err := deliverAll(r.files, deliver); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// protect returns a panic of a target, or of a function that reads secrets, as an error:
// both may be a caller's own.
func protect(render func() ([]File, error)) (files []File, err error) {
	defer func() {
		if reason := recover(); reason != nil {
			files, err = nil, fmt.Errorf("the target panics: %v\n%s", reason, debug.Stack())
		}
	}()
	return render()
}

func deliverAll(files []File, deliver func(File) error) error {
	for _, file := range files {
		if err := deliver(file); err != nil {
			return err
		}
	}
	return nil
}
