// Package libvirt renders machines as libvirt's XML: a domain, its volumes and
// its networks (https://libvirt.org/format.html), and the seed image.
package libvirt

import (
	"crypto/sha256"
	"fmt"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/internal/targets/seed"
	"stavren.example/stavren/internal/xmldoc"
	"stavren.example/stavren/render"
)

// Target renders a folder a machine and one for the networks.
var Target = render.Target{
	Name:      "libvirt",
	Summary:   "domain, volume and network XML for libvirt, and the seed image",
	Writes:    []string{"MACHINE/domain.xml", "MACHINE/seed.iso", "networks/NETWORK.xml", "MACHINE/DISK.volume.xml"},
	Fates:     fates(),
	Overrides: overrides,
	Needs:     needs,
	Tools:     []string{"virsh"},
	Machine: func(job *render.Job, m *fleet.Machine) ([]render.File, error) {
		seedFile, err := seed.FileFor(job, m, platform)
		if err != nil {
			return nil, err
		}
		seedFile.Name = m.Name + "/" + seedFile.Name
		domain, err := domain(job, m)
		if err != nil {
			return nil, err
		}
		files := []render.File{domain, seedFile}
		for _, disk := range m.Disks {
			files = append(files, volume(job, m, disk))
		}
		return files, nil
	},
	Fleet: func(job *render.Job) ([]render.File, error) {
		var files []render.File
		for _, network := range usedNetworks(job.Fleet, job.Machines()) {
			files = append(files, networkFile(job.Fleet, network))
		}
		return files, nil
	},
	Steps: steps,
}

// platform is Virtio, but for disks on a bus that libvirt does not emulate.
var platform = func() cloudinit.Platform {
	p := cloudinit.Virtio
	p.DiskDevice = func(disk *fleet.Disk) string {
		other := *disk
		other.Bus = busOf(disk)
		return cloudinit.Virtio.DiskDevice(&other)
	}
	// passt answers for the gateway that it took from the host, not for ours.
	p.HandsOut = forwards
	return p
}()

func fates() []render.Fate {
	fates := append(cloudinit.Fates(), render.Carry(
		"image.arch", "machine.image", "machine.about", "machine.clock",
		"resources.cpus", "resources.memory", "disk.size", "disk.format", "disk.bus",
		"medium.file", "medium.boot_first", "nic.model", "network.bridge", "network.mode", "network.dhcp_first", "network.dhcp_last",
		"share.host", "share.machine",
		"console.protocol", "console.listen", "console.port", "console.resolution",
		"firmware.kind", "firmware.secure_boot", "firmware.tpm",
	)...)
	adapted := func(how string, fields ...string) {
		for _, field := range fields {
			fates = append(fates, render.Fate{Field: field, Outcome: render.Adapted, How: how})
		}
	}
	adapted("it stands before the names of domains, networks and volumes", "fleet.fleet")
	adapted("the commands printed upload it into the volume", "image.file", "disk.start")
	adapted("passt forwards it, on the machine's first nat network, which is then the machine's own", "port.host", "port.machine", "port.protocol", "port.listen")
	adapted("volumes outlive the domain unless its removal is asked to take them along", "disk.keep")
	adapted("virsh change-media ejects it, in the commands printed", "medium.eject")
	adapted("as processor shares", "resources.priority")
	adapted("by virsh autostart, in the commands printed", "machine.autostart")
	adapted("every machine has a serial console, a graphical one beside it", "console.kind")
	adapted("it stands in domain.xml; VNC looks at its first eight characters only", "console.password")
	adapted("the machine mounts it read-only; virtiofs itself would let it write", "share.read_only")
	fates = append(fates, cloudinit.CloudFates()...)
	fates = append(fates, render.LeaveOut("libvirt starts all machines with the host at once", "machine.autostart_delay")...)
	fates = append(fates, render.LeaveOut("a note for people on the whole fleet", "fleet.about")...)
	return append(fates, render.LeaveOut("libvirt takes the file as it finds it; check --here holds it to its checksum", "image.sha256")...)
}

func overrides(job *render.Job, m *fleet.Machine) []render.Fate {
	fates := cloudinit.Overrides(job, m)
	for _, disk := range m.Disks {
		if disk.Bus == fleet.NVMe {
			return append(fates[:len(fates):len(fates)], render.Fate{Field: "disk.bus", Outcome: render.Adapted, How: "libvirt emulates no NVMe, so the disk is on virtio"})
		}
	}
	return fates
}

// needs reports what keeps a machine from running as it is defined.
func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	var findings []finding.Finding
	if image := f.Image(m.Image); image != nil && image.File == "" {
		findings = append(findings, finding.Finding{
			Rule: "image-without-file", Severity: finding.Error, Place: image.PlaceOf(fleet.Itself), Path: "images." + image.Name,
			Message: fmt.Sprintf("image %s has no file, and libvirt boots a file", image.Name),
			Remedy:  "add file: with the path of a disk image, relative to the definition",
		})
	}
	if len(m.Ports) > 0 && f.ForwardingNIC(m) == nil {
		port := m.Ports[0]
		findings = append(findings, finding.Finding{
			Rule: "port-without-nat", Severity: finding.Error, Place: port.PlaceOf(fleet.Itself), Path: "machines." + m.Name + ".ports." + port.Name,
			Message: fmt.Sprintf("machine %s forwards ports, but none of its networks is nat, and ports are forwarded through such a one", m.Name),
			Remedy:  "give it an interface on a nat network, or remove its ports",
		})
	}
	if nic := f.ForwardingNIC(m); nic != nil && len(m.Ports) > 0 && len(f.OnNetwork(nic.Network)) > 1 {
		network := f.Network(nic.Network)
		findings = append(findings, finding.Finding{
			Rule: "machines-apart", Severity: finding.Advice, Place: network.PlaceOf(fleet.Itself), Path: "networks." + network.Name,
			Message: fmt.Sprintf("machines that forward ports have the nat network %s to themselves, so the others do not reach them there", network.Name),
			Remedy:  "put those that talk to each other on an isolated or host-only network as well",
		})
	}
	if !xmldoc.Holds(m.About) {
		findings = append(findings, finding.Finding{
			Rule: "text-not-in-xml", Severity: finding.Error, Place: m.PlaceOf("about"), Path: "machines." + m.Name + ".about",
			Message: fmt.Sprintf("about of machine %s has a character that no XML document can hold", m.Name),
			Remedy:  "remove control characters from it",
		})
	}
	return findings
}

// qualified is the name of something on a host that other fleets share.
func qualified(f *fleet.Fleet, name string) string { return f.Name + "-" + name }

// uuid derives a UUID from names (RFC 9562, version 8), so that defining a
// machine again changes it rather than making another.
func uuid(names ...string) string {
	text := "uuid\x00"
	for _, name := range names {
		text += name + "\x00"
	}
	sum := sha256.Sum256([]byte(text))
	sum[6] = sum[6]&0x0f | 0x80
	sum[8] = sum[8]&0x3f | 0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", sum[:4], sum[4:6], sum[6:8], sum[8:10], sum[10:16])
}
