// Package seed renders first-boot data as an ISO image that a machine finds in
// its drive (cloud-init's NoCloud data source).
package seed

import (
	"io/fs"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// Target renders one image per machine.
var Target = render.Target{
	Name:      "seed",
	Summary:   "the same data as an ISO image that any hypervisor can attach",
	Writes:    []string{"MACHINE/seed.iso"},
	Fates:     cloudinit.Target.Fates,
	Overrides: cloudinit.Overrides,
	Machine: func(job *render.Job, m *fleet.Machine) ([]render.File, error) {
		file, err := File(job, m)
		file.Name = m.Name + "/" + file.Name
		return []render.File{file}, err
	},
}

// File renders seed.iso for one machine. Only the owner can read an image that holds
// a secret.
func File(job *render.Job, m *fleet.Machine) (render.File, error) {
	return FileFor(job, m, cloudinit.Virtio)
}

// FileFor is like File, for a machine that doesn't run on plain virtio.
func FileFor(job *render.Job, m *fleet.Machine, environment cloudinit.Environment) (render.File, error) {
	files, err := cloudinit.Files(job, m, environment)
	if err != nil {
		return render.File{}, err
	}
	mode := fs.FileMode(0o644)
	for _, file := range files {
		mode &= file.Mode
	}
	image, err := Image(files)
	return render.File{Name: "seed.iso", Data: image, Mode: mode}, err
}
