// Package qemu renders machines for QEMU: a script that makes the disks and
// starts the machine, its seed image, and a systemd unit that runs the script.
package qemu

import (
	"fmt"
	"slices"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/internal/targets/seed"
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
		seedFile, err := seed.FileFor(job, m, Platform)
		if err != nil {
			return nil, err
		}
		seedFile.Name = m.Name + "/" + seedFile.Name
		script, err := runScript(job, m)
		if err != nil {
			return nil, err
		}
		files := []render.File{
			{Name: m.Name + "/run.sh", Data: script, Mode: 0o755},
			seedFile,
			{Name: m.Name + "/" + m.Name + ".service", Data: unit(job.Fleet, m), Mode: 0o644},
		}
		if m.Console.Password != "" {
			password, err := job.Secret(m.Console.Password)
			if err != nil {
				return nil, err
			}
			files = append(files, render.File{Name: m.Name + "/" + passwordFile, Data: []byte(password), Mode: 0o600})
		}
		return files, nil
	},
	Steps: func(_ *render.Job, machines []*fleet.Machine) []render.Step {
		var steps []render.Step
		for _, m := range machines {
			steps = append(steps, render.Step{About: "start " + m.Name, Command: m.Name + "/run.sh"})
		}
		return steps
	},
}

// Platform is plain virtio, with segments that have no DHCP server.
var Platform = func() cloudinit.Platform {
	p := cloudinit.Virtio
	p.NoDHCP = func(network *fleet.Network) bool {
		return network.Mode == fleet.HostOnly || network.Mode == fleet.Isolated
	}
	return p
}()

func fates() []render.Fate {
	fates := append(cloudinit.Fates(), render.Carry(
		"image.arch", "image.file", "machine.image", "machine.about", "machine.clock",
		"resources.cpus", "resources.memory", "disk.size", "disk.format", "disk.bus", "disk.start",
		"medium.file", "medium.boot_first", "nic.model", "network.bridge",
		"port.host", "port.machine", "port.protocol", "port.listen",
		"share.host", "share.machine", "share.read_only",
		"console.kind", "console.protocol", "console.listen", "console.port", "console.resolution",
		"firmware.kind", "firmware.secure_boot", "firmware.tpm",
	)...)
	adapted := func(how string, fields ...string) {
		for _, field := range fields {
			fates = append(fates, render.Fate{Field: field, Outcome: render.Adapted, How: how})
		}
	}
	adapted("it stands in the description of the systemd unit", "fleet.fleet")
	adapted("nat is QEMU's user network, each machine on one of its own; host-only and isolated ones are segments between the machines alone, where those without an address get one that stays", "network.mode")
	adapted("the script never removes a disk, whether it is to be kept or not", "disk.keep")
	adapted("the disc is in its drive at the first start, when the root disk is made, and later only if STAVREN_MEDIA asks for it", "medium.eject")
	adapted("the file console.password holds it; VNC looks at its first eight characters only", "console.password")
	adapted("as the weight of the systemd unit; the script alone has no priority", "resources.priority")
	adapted("by the systemd unit, once it is enabled as its first line says", "machine.autostart", "machine.autostart_delay")
	fates = append(fates, cloudinit.CloudFates()...)
	fates = append(fates, render.LeaveOut("a note for people on the whole fleet", "fleet.about")...)
	fates = append(fates, render.LeaveOut("the script boots the file as it finds it; check --here holds it to its checksum", "image.sha256")...)
	return append(fates, render.LeaveOut("QEMU's user network hands each machine its own address, and segments have no DHCP server", "network.dhcp_first", "network.dhcp_last")...)
}

// needs reports what keeps a machine from running as it is defined.
func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	var findings []finding.Finding
	add := func(rule string, severity finding.Severity, place fleet.Place, path, message, remedy string) {
		findings = append(findings, finding.Finding{Rule: rule, Severity: severity, Place: place, Path: path, Message: message, Remedy: remedy})
	}
	machinePath := "machines." + m.Name
	forwarding := f.ForwardingNIC(m)
	if forwarding == nil && len(m.Ports) > 0 {
		port := m.Ports[0]
		add("port-without-nat", finding.Error, port.PlaceOf(fleet.Itself), machinePath+".ports."+port.Name,
			fmt.Sprintf("machine %s forwards ports, but none of its networks is nat, and QEMU forwards through such a one", m.Name),
			"give it an interface on a nat network, or remove its ports")
	}
	for _, nic := range m.NICs {
		if network := f.Network(nic.Network); network != nil && network.Mode == fleet.NAT && len(f.OnNetwork(network.Name)) > 1 {
			add("machines-apart", finding.Advice, network.PlaceOf(fleet.Itself), "networks."+network.Name,
				fmt.Sprintf("QEMU gives each machine on the nat network %s one of its own, so they do not reach each other there", network.Name),
				"put those that talk to each other on an isolated or host-only network as well")
		}
	}
	if c := &m.Console; c.Kind == fleet.Graphical && c.Protocol == fleet.VNC && c.Port < firstDisplay {
		add("vnc-port-too-low", finding.Error, c.PlaceOf("port"), machinePath+".console.port",
			fmt.Sprintf("the console of %s listens on port %d, but VNC's displays begin at %d", m.Name, c.Port, firstDisplay),
			fmt.Sprintf("choose a port from %d on, or write auto", firstDisplay))
	}
	if image := f.Image(m.Image); image != nil && image.File == "" && !bootsFromDisc(m) {
		add("image-without-file", finding.Error, image.PlaceOf(fleet.Itself), "images."+image.Name,
			fmt.Sprintf("image %s has no file, and QEMU boots a file", image.Name),
			"add file: with the path of a disk image, relative to the definition, or a medium with boot_first: true")
	}
	return findings
}

func bootsFromDisc(m *fleet.Machine) bool {
	return slices.ContainsFunc(m.Media, func(d *fleet.Medium) bool { return d.BootFirst })
}
