// Package bhyve renders machines for FreeBSD's hypervisor: a configuration file
// (bhyve_config(5)), a script that makes disks and interfaces and runs it,
// packet-filter rules for its ports, and the seed image.
package bhyve

import (
	"fmt"
	"net/netip"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/internal/targets/seed"
	"stavren.example/stavren/render"
)

// Target renders a folder a machine.
var Target = render.Target{
	Name:      "bhyve",
	Summary:   "a configuration file, a run script and packet-filter rules for bhyve, and the seed image",
	Writes:    []string{"MACHINE/bhyve.conf", "MACHINE/run.sh", "MACHINE/seed.iso", "MACHINE/ports.pf.conf"},
	Fates:     fates(),
	Overrides: overrides,
	Needs:     needs,
	Tools:     []string{"bhyve", "bhyvectl", "qemu-img"},
	Machine: func(job *render.Job, m *fleet.Machine) ([]render.File, error) {
		seedFile, err := seed.FileFor(job, m, platform)
		if err != nil {
			return nil, err
		}
		seedFile.Name = m.Name + "/" + seedFile.Name
		config, err := configuration(job, m)
		if err != nil {
			return nil, err
		}
		script, err := runScript(job, m)
		if err != nil {
			return nil, err
		}
		files := []render.File{config, {Name: m.Name + "/run.sh", Data: script, Mode: 0o755}, seedFile}
		if rules := forwards(job.Fleet, m); rules != nil {
			files = append(files, render.File{Name: m.Name + "/ports.pf.conf", Data: rules, Mode: 0o644})
		}
		return files, nil
	},
	Steps: func(job *render.Job, machines []*fleet.Machine) []render.Step {
		var list []render.Step
		for _, m := range machines {
			if len(m.Ports) > 0 {
				list = append(list, render.Step{About: "forward the ports of " + m.Name + ", where /etc/pf.conf has the lines its file names",
					Command: loadRules(m, m.Name+"/ports.pf.conf")})
			}
			list = append(list, render.Step{About: "start " + m.Name, Command: "sh " + m.Name + "/run.sh"})
		}
		return list
	},
}

// busOf is the bus of a disk; SCSI needs a target of ctl(4) that a machine
// cannot bring along.
func busOf(disk *fleet.Disk) fleet.DiskBus {
	if disk.Bus == fleet.SCSI {
		return fleet.VirtIO
	}
	return disk.Bus
}

// platform is bhyve's emulation, which passes serials on as QEMU's does, under
// models of its own (usr.sbin/bhyve: pci_ahci.c, pci_nvme.c).
var platform = cloudinit.Platform{
	DiskDevice: func(disk *fleet.Disk) string {
		model := map[fleet.DiskBus]string{fleet.VirtIO: "virtio-", fleet.SATA: "ata-BHYVE_SATA_DISK_", fleet.NVMe: "nvme-bhyve-NVMe_"}[busOf(disk)]
		return "/dev/disk/by-id/" + model + disk.Serial
	},
	NoDHCP:     func(network *fleet.Network) bool { return network.Mode != fleet.Bridged },
	Neighbours: true,
}

func fates() []render.Fate {
	fates := append(cloudinit.Fates(), render.Carry(
		"image.file", "image.arch", "machine.image", "machine.about", "machine.clock",
		"resources.cpus", "resources.memory", "disk.size", "disk.format", "disk.bus", "disk.start",
		"medium.file", "nic.model", "network.bridge",
		"console.kind", "console.listen", "console.port", "console.resolution",
	)...)
	adapted := func(how string, fields ...string) {
		for _, field := range fields {
			fates = append(fates, render.Fate{Field: field, Outcome: render.Adapted, How: how})
		}
	}
	adapted("redirect rules for the packet filter in a file of their own", "port.host", "port.machine", "port.protocol", "port.listen")
	adapted("every network is a bridge of the host; the script gives it the gateway's address where machines go out through the host, and machines without an address get one that stays", "network.mode")
	adapted("bhyve starts every machine by UEFI", "firmware.kind")
	adapted("the script never removes a disk", "disk.keep")
	adapted("it stands before the names of bridges", "fleet.fleet")
	adapted("it stands in bhyve.conf; VNC looks at its first eight characters only", "console.password")
	fates = append(fates, cloudinit.CloudFates()...)
	fates = append(fates, render.LeaveOut("bhyve has no word for it", "resources.priority", "console.protocol", "firmware.secure_boot", "firmware.tpm",
		"medium.boot_first", "medium.eject", "machine.autostart", "machine.autostart_delay",
		"share.host", "share.machine", "share.read_only", "network.dhcp_first", "network.dhcp_last")...)
	fates = append(fates, render.LeaveOut("a note for people on the whole fleet", "fleet.about")...)
	return append(fates, render.LeaveOut("the script takes the file as it finds it; check --here holds it to its checksum", "image.sha256")...)
}

func overrides(job *render.Job, m *fleet.Machine) []render.Fate {
	fates := cloudinit.Overrides(job, m)
	for _, disk := range m.Disks {
		if disk.Bus == fleet.SCSI {
			return append(fates[:len(fates):len(fates)], render.Fate{Field: "disk.bus", Outcome: render.Adapted, How: "on virtio, since SCSI needs a target on the host"})
		}
	}
	return fates
}

// mostDevices is what is left of the 32 slots of a bus beside host bridge, drive,
// random numbers, screen, pointer and the bridge to old devices.
const mostDevices = 26

func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	var findings []finding.Finding
	add := func(rule string, severity finding.Severity, place fleet.Place, path, message, remedy string) {
		findings = append(findings, finding.Finding{Rule: rule, Severity: severity, Place: place, Path: path, Message: message, Remedy: remedy})
	}
	path := "machines." + m.Name
	if image := f.Image(m.Image); image != nil {
		if image.Arch != "amd64" {
			add("architecture-of-target", finding.Error, image.PlaceOf("arch"), "images."+image.Name+".arch",
				fmt.Sprintf("image %s is for %s, and this configuration of bhyve runs amd64", image.Name, image.Arch), "choose an image for amd64, or render the machine for qemu or libvirt")
		}
		if image.File == "" {
			add("image-without-file", finding.Error, image.PlaceOf(fleet.Itself), "images."+image.Name,
				fmt.Sprintf("image %s has no file, and bhyve boots a file", image.Name), "add file: with the path of a disk image, relative to the definition")
		}
	}
	if devices := len(m.Disks) + len(m.NICs); devices > mostDevices {
		add("too-many-devices", finding.Error, m.PlaceOf("disks"), path+".disks",
			fmt.Sprintf("machine %s has %d disks and interfaces, and bhyve's bus takes %d beside what every machine has", m.Name, devices, mostDevices), "give it fewer")
	}
	if len(m.Ports) > 0 && !forwardTo(f, m).IsValid() {
		port := m.Ports[0]
		add("port-without-address", finding.Error, port.PlaceOf(fleet.Itself), path+".ports."+port.Name,
			fmt.Sprintf("machine %s forwards ports, but has no fixed address that a redirect rule could name", m.Name), "give its interface on a nat network an address")
	}
	if catalog.Of(f, m).TPM || m.Firmware.TPM {
		add("no-tpm", finding.Warning, m.Firmware.PlaceOf("tpm"), path+".firmware.tpm", fmt.Sprintf("machine %s asks for a TPM, and bhyve has none without a device of the host's", m.Name), "render the machine for qemu or libvirt, or do without")
	}
	return findings
}

// forwardTo is the address that ports are forwarded to: the one on the first nat
// network, or none.
func forwardTo(f *fleet.Fleet, m *fleet.Machine) netip.Addr {
	if nic := f.ForwardingNIC(m); nic != nil {
		return f.Assigned(nic)
	}
	return netip.Addr{}
}

// loadRules loads a file of rules; out is the interface that leads to the world.
func loadRules(m *fleet.Machine, file string) string {
	return fmt.Sprintf(`pfctl -D out="$(route -n get default | awk '/interface:/ {print $2}')" -a stavren/%s -f %s`, m.Name, file)
}

// forwards renders redirect rules (pf.conf(5)), or nil where there is no port.
func forwards(f *fleet.Fleet, m *fleet.Machine) []byte {
	to := forwardTo(f, m)
	if len(m.Ports) == 0 || !to.IsValid() {
		return nil
	}
	var text strings.Builder
	fmt.Fprintf(&text, "# Ports of %s. /etc/pf.conf needs these lines, once:\n#   nat-anchor \"stavren/*\"\n#   rdr-anchor \"stavren/*\"\n", m.Name)
	fmt.Fprintf(&text, "# Load it:  %s\n\n", loadRules(m, "ports.pf.conf"))
	for _, nic := range m.NICs {
		if network := f.Network(nic.Network); network != nil && network.Mode == fleet.NAT && network.Subnet.IsValid() {
			fmt.Fprintf(&text, "# out to the world, and from the host itself\nnat on $out inet from %v to ! %v -> ($out)\n", network.Subnet, network.Subnet)
			fmt.Fprintf(&text, "nat on %s inet from 127.0.0.0/8 to %v -> %v\n", bridgeName(f, network), to, network.Gateway)
			break
		}
	}
	for _, port := range m.Ports {
		on, listen := "", port.Listen.String()
		switch {
		case port.Listen.IsLoopback():
			on = " on lo0"
		case port.Listen.IsUnspecified():
			listen = "any"
		}
		family := "inet"
		if port.Listen.Is6() {
			family = "inet6"
		}
		fmt.Fprintf(&text, "# %s\n", port.Name)
		fmt.Fprintf(&text, "rdr pass%s %s proto %s from any to %s port %d -> %v port %d\n", on, family, port.Protocol, listen, port.Host, to, port.Machine)
	}
	return []byte(text.String())
}
