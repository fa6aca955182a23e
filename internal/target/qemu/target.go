// Package qemu renders machines for QEMU: a script that makes the disks and
// starts the machine, its seed image, and a systemd unit that runs the script.
package qemu

import (
	"fmt"
	"path"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/target/cloudinit"
	"stavren.example/stavren/internal/target/seed"
	"stavren.example/stavren/render"
)

// Target renders a folder a machine.
var Target = render.Target{
	Name:    "qemu",
	Summary: "a script that starts the machine with QEMU, its seed image and a systemd unit",
	Writes:  []string{"MACHINE/run.sh", "MACHINE/seed.iso", "MACHINE/MACHINE.service"},
	Fates:   fates(),
	Needs:   needs,
	Tools:   []string{"qemu-img", "qemu-system-x86_64"},
	Machine: func(job *render.Job, m *fleet.Machine) ([]render.File, error) {
		seedFile, err := seed.File(job, m)
		if err != nil {
			return nil, err
		}
		seedFile.Name = m.Name + "/" + seedFile.Name
		script, err := runScript(job, m)
		if err != nil {
			return nil, err
		}
		return []render.File{
			{Name: m.Name + "/run.sh", Data: script, Mode: 0o755},
			seedFile,
			{Name: m.Name + "/" + m.Name + ".service", Data: unit(job.Fleet, m), Mode: 0o644},
		}, nil
	},
}

func fates() []render.Fate {
	fates := append(cloudinit.Fates(), render.Carry(
		"image.arch", "image.file", "machine.image", "machine.about", "machine.clock",
		"resources.cpus", "resources.memory", "disk.size",
		"port.host", "port.machine", "port.protocol", "port.listen",
	)...)
	fates = append(fates,
		render.Fate{Field: "fleet.fleet", Outcome: render.Adapted, How: "it stands in the description of the systemd unit"},
		render.Fate{Field: "network.mode", Outcome: render.Adapted, How: "nat is QEMU's user network: each machine has one of its own, so machines do not see each other on it"},
		render.Fate{Field: "disk.keep", Outcome: render.Adapted, How: "the script never removes a disk, whether it is to be kept or not"},
	)
	fates = append(fates, cloudinit.CloudFates()...)
	fates = append(fates, render.LeaveOut("a note for people on the whole fleet", "fleet.about")...)
	fates = append(fates, render.LeaveOut("the script boots the file as it finds it", "image.sha256")...)
	return append(fates, render.LeaveOut("the script does not say it yet",
		"network.bridge", "network.dhcp_first", "network.dhcp_last", "resources.priority",
		"disk.format", "disk.bus", "disk.start", "medium.file", "medium.boot_first", "medium.eject", "nic.model",
		"share.host", "share.machine", "share.read_only",
		"console.kind", "console.protocol", "console.listen", "console.port", "console.resolution", "console.password",
		"firmware.kind", "firmware.secure_boot", "firmware.tpm", "machine.autostart", "machine.autostart_delay")...)
}

// needs reports what keeps a machine from running: an image without a file, and
// a network whose kind the script cannot make yet.
func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	findings := cloudinit.Needs(f, m)
	for _, nic := range m.NICs {
		network := f.Network(nic.Network)
		if network == nil || network.Mode == fleet.NAT {
			continue
		}
		findings = append(findings, finding.Finding{
			Rule: "network-not-made", Severity: finding.Error, Place: network.PlaceOf("mode"), Path: "networks." + network.Name + ".mode",
			Message: fmt.Sprintf("network %s is %s, and the QEMU script makes nat networks only", network.Name, network.Mode),
			Remedy:  "render the machines on nat networks with --machine, or change the mode",
		})
	}
	image := f.Image(m.Image)
	if image == nil || image.File != "" {
		return findings
	}
	return append(findings, finding.Finding{
		Rule: "image-without-file", Severity: finding.Error, Place: image.PlaceOf(fleet.Itself), Path: "images." + image.Name,
		Message: fmt.Sprintf("image %s has no file, and QEMU boots a file", image.Name),
		Remedy:  "add file: with the path of a disk image, relative to the definition",
	})
}

// imagePath is where the machine's folder finds its base image.
func imagePath(job *render.Job, image *fleet.Image) string {
	file := path.Join(image.Folder, image.File)
	if job.Options.ImagePath != nil {
		file = job.Options.ImagePath(image)
	}
	if path.IsAbs(file) {
		return file
	}
	return "../" + path.Clean(file)
}
