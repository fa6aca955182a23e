// Package qemu renders machines for QEMU: a script that creates the disks and starts
// the machine, its seed image, and a systemd unit that runs the script.
package qemu

import (
	"fmt"
	"slices"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/internal/targets/seed"
	"stavren.example/stavren/render"
)

// Target renders one folder per machine.
var Target = render.Target{
	Name:      "qemu",
	Summary:   "a script that starts the machine with QEMU, its seed image and a systemd unit",
	Writes:    []string{"MACHINE/run.sh", "fleet.sh", "MACHINE/seed.iso", "MACHINE/MACHINE.service"},
	Fates:     fates,
	Overrides: overrides,
	Needs:     needs,
	Tools:     []string{"qemu-img", "qemu-system-x86_64"},
	Machine: func(job *render.Job, m *fleet.Machine) ([]render.File, error) {
		seedFile, err := seed.FileFor(job, m, Environment)
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
	Fleet: func(job *render.Job) ([]render.File, error) {
		script, err := hypervisor.FleetScript(job.Fleet, "QEMU", true)
		return []render.File{{Name: "fleet.sh", Data: script, Mode: 0o755}}, err
	},
	Steps: hypervisor.FleetSteps,
}

// Environment is plain virtio, with segments that have no DHCP server.
var Environment = func() cloudinit.Environment {
	e := cloudinit.Virtio
	e.Firewall = hypervisor.FirewallInside("qemu")
	e.NoDHCP = func(network *fleet.Network) bool {
		return network.Mode == fleet.HostOnly || network.Mode == fleet.Isolated
	}
	return e
}()

func fates() []render.Fate {
	return render.Merge(cloudinit.Fates(), cloudinit.CloudFates(), hypervisor.FirewallFates(""),
		render.Carry(
			"image.arch", "image.file", "machine.image", "machine.about", "machine.clock",
			"resources.cpus", "resources.memory", "disk.size", "disk.format", "disk.bus", "disk.start",
			"medium.file", "medium.boot_first", "nic.model", "network.bridge",
			"port.host", "port.machine", "port.protocol", "port.listen",
			"share.host", "share.machine", "share.read_only",
			"console.kind", "console.protocol", "console.listen", "console.port", "console.resolution",
			"firmware.kind", "firmware.secure_boot", "firmware.tpm"),
		render.Adapt("it is in the description of the systemd unit", "fleet.fleet"),
		render.Adapt("nat is QEMU's user network, one per machine; host-only and isolated ones are segments "+
			"between the machines, "+
			"where those without an address get a permanent one", "network.mode"),
		render.Adapt("run.sh remove leaves a disk that is kept", "disk.keep"),
		render.Adapt("the disc is in its drive at the first start, when the root disk is created, and later only "+
			"if STAVREN_MEDIA asks for it",
			"medium.eject"),
		render.Adapt("it is in the file console.password; VNC uses only its first eight characters",
			"console.password"),
		render.Adapt("as the weight of the systemd unit; the script alone has no priority", "resources.priority"),
		render.Adapt("by the systemd unit, once it is enabled as its first line says", "machine.autostart",
			"machine.autostart_delay"),
		render.LeaveOut("a note for people on the whole fleet", "fleet.about"),
		render.LeaveOut("the script boots the file as it is; check --here compares it with its checksum",
			"image.sha256"),
		render.LeaveOut("QEMU's user network gives each machine its address, and segments have no DHCP server",
			"network.dhcp_first", "network.dhcp_last"),
	)
}

func overrides(job *render.Job, m *fleet.Machine) []render.Fate {
	fates := render.Merge(cloudinit.Overrides(job, m), hypervisor.WithoutFirewalls(job.Fleet, "qemu"))
	system := catalog.Of(job.Fleet, m)
	if m.Console.Kind == fleet.Graphical && m.Console.Protocol == fleet.VNC && !system.Keyboard() {
		fates = render.Merge(fates, render.Adapt("only the screen of the machine knows it", "machine.keyboard"))
	}
	if system.Family.Class() == catalog.ClassWindows {
		fates = render.Merge(fates, hypervisor.GuestToolsInImage(), hypervisor.DriversOfImage())
	}
	return fates
}

// needs reports what keeps a machine from running as defined.
func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	n := hypervisor.New("qemu", f, m)
	n.NATForPorts()
	for _, nic := range m.NICs {
		if network := f.Network(nic.Network); network != nil && network.Mode == fleet.NAT &&
			len(f.OnNetwork(network.Name)) > 1 {
			n.Apart(network)
		}
	}
	if c := &m.Console; c.Kind == fleet.Graphical && c.Protocol == fleet.VNC && c.Port < firstDisplay {
		n.Add("vnc-port-too-low", finding.Error, finding.OfConsole(m, "port"),
			"the console of machine %s listens on port %d, but VNC displays start at %d", m.Name, c.Port, firstDisplay).
			Remedy = fmt.Sprintf("choose a port from %d up, or write auto", firstDisplay)
	}
	if devices := sataDevices(f, m); devices > sataPorts {
		n.Add("too-many-devices", finding.Error, finding.OfMachine(m, "disks"),
			"machine %s has %d disks and drives on SATA; the limit is %d", m.Name, devices, sataPorts).
			Remedy = "put disks on virtio or scsi"
	}
	if !bootsFromDisc(m) {
		n.ImageFile(", or a medium with boot_first: true")
	}
	return n.Findings
}

// sataDevices counts what is on a machine's SATA controller.
func sataDevices(f *fleet.Fleet, m *fleet.Machine) int {
	count := 0
	for _, disk := range m.Disks {
		if disk.Bus == fleet.SATA {
			count++
		}
	}
	if image := f.Image(m.Image); image != nil && image.Arch == "arm64" {
		return count // its drives are on SCSI
	}
	if hypervisor.IsWindows(f, m) {
		count++ // the drive with first-boot data
	}
	return count + len(m.Media)
}

func bootsFromDisc(m *fleet.Machine) bool {
	return slices.ContainsFunc(m.Media, func(d *fleet.Medium) bool { return d.BootFirst })
}
