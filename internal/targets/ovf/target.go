// Package ovf renders machines in the Open Virtualization Format, version 1.1 (DMTF
// DSP0243), which several desktop and server hypervisors import: a descriptor, its
// manifest and the seed image.
package ovf

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"fmt"
	"slices"
	"time"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/quote"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/internal/targets/seed"
	"stavren.example/stavren/render"
)

// Target renders one folder per machine or, with Options.Archive, one file.
var Target = render.Target{
	Name:      "ovf",
	Summary:   "an OVF 1.1 descriptor with manifest and seed image, which several hypervisors import",
	Writes:    []string{"MACHINE/MACHINE.ovf", "MACHINE/MACHINE.mf", "MACHINE/seed.iso"},
	Fates:     fates,
	Overrides: overrides,
	Needs:     needs,
	Tools:     []string{"qemu-img"},
	Machine: func(job *render.Job, m *fleet.Machine) ([]render.File, error) {
		seedFile, err := seed.FileFor(job, m, environment)
		if err != nil {
			return nil, err
		}
		descriptor, err := descriptor(job.Fleet, m, len(seedFile.Data))
		if err != nil {
			return nil, err
		}
		ovf := render.File{Name: m.Name + ".ovf", Data: descriptor, Mode: 0o644}
		files := []render.File{ovf, {Name: m.Name + ".mf", Data: manifest(ovf, seedFile), Mode: seedFile.Mode}, seedFile}
		if job.Options.Archive {
			if image := job.Fleet.Image(m.Image); len(m.Media) > 0 || image.File != "" {
				// A manifest lists every file (DSP0243, 5.1), and some are packed later.
				files = []render.File{ovf, seedFile}
			}
			archive, err := archive(files)
			if err != nil {
				return nil, err
			}
			return []render.File{{Name: m.Name + "/" + m.Name + ".ova", Data: archive, Mode: seedFile.Mode}}, nil
		}
		for i := range files {
			files[i].Name = m.Name + "/" + files[i].Name
		}
		return files, nil
	},
	Steps: steps,
}

func overrides(job *render.Job, m *fleet.Machine) []render.Fate {
	fates := cloudinit.Overrides(job, m)
	if hypervisor.IsWindows(job.Fleet, m) {
		fates = render.Merge(fates, hypervisor.DriversOfImage())
	}
	return fates
}

// rootFile is the disk image that the descriptor names for the root disk.
const rootFile = "root.vmdk"

// environment is a hypervisor whose disks have no serial inside the machine. They are
// found by their address on the SCSI bus and linked to names of our own.
var environment = cloudinit.Environment{
	DiskDevice: func(disk *fleet.Disk) string { return "/dev/stavren/" + disk.Name },
	FindDisk: func(m *fleet.Machine, disk *fleet.Disk) string {
		return fmt.Sprintf("for b in /sys/bus/scsi/devices/*:0:%d:0/block/*; do echo /dev/${b##*/}; done",
			address(m, disk))
	},
	GuestTools: "open-vm-tools",
	Neighbours: true,
}

// address returns a disk's address on the SCSI bus, where 7 is the controller's own.
func address(m *fleet.Machine, disk *fleet.Disk) int {
	at := slices.Index(m.Disks, disk)
	if at >= 7 {
		at++
	}
	return at
}

func manifest(files ...render.File) []byte {
	var text bytes.Buffer
	for _, file := range files {
		fmt.Fprintf(&text, "SHA256(%s)= %x\n", file.Name, sha256.Sum256(file.Data))
	}
	return text.Bytes()
}

// archive packs files into the one-file form: a tar archive in the USTAR format with
// the descriptor first and the manifest second (DSP0243, 5.3). Times are zero, so
// that the same files give the same bytes.
func archive(files []render.File) ([]byte, error) {
	var out bytes.Buffer
	writer := tar.NewWriter(&out)
	for _, file := range files {
		header := &tar.Header{Name: file.Name, Size: int64(len(file.Data)), Mode: int64(file.Mode),
			ModTime: time.Unix(0, 0), Format: tar.FormatUSTAR}
		if err := writer.WriteHeader(header); err != nil {
			return nil, fmt.Errorf("archive: %w", err)
		}
		if _, err := writer.Write(file.Data); err != nil {
			return nil, fmt.Errorf("archive: %w", err)
		}
	}
	if err := writer.Close(); err != nil {
		return nil, fmt.Errorf("archive: %w", err)
	}
	return out.Bytes(), nil
}

func fates() []render.Fate {
	return render.Merge(cloudinit.Fates(), cloudinit.CloudFates(),
		render.Carry("machine.image", "machine.about", "resources.cpus", "resources.memory", "disk.size", "nic.model",
			"firmware.kind", "firmware.secure_boot"),
		render.Adapt("the printed command converts it to "+rootFile+" beside the descriptor", "image.file"),
		render.Adapt("a name in the network section, which is mapped to one of the hypervisor's networks on import",
			"network.mode", "network.bridge"),
		render.Adapt("every disk is on one SCSI controller, which all hypervisors that read OVF have", "disk.bus"),
		render.Adapt("a drive with the disc's file, which must be beside the descriptor when it is imported",
			"medium.file"),
		render.LeaveOut("OVF has no element for forwarded ports; set them in the hypervisor",
			"port.host", "port.machine", "port.protocol", "port.listen"),
		render.LeaveOut("OVF has no element for it; set it in the hypervisor after the import",
			"image.arch", "resources.priority", "disk.format", "disk.keep", "disk.start", "medium.boot_first",
			"medium.eject",
			"network.dhcp_first", "network.dhcp_last", "share.host", "share.machine", "share.read_only",
			"console.kind", "console.protocol", "console.listen", "console.port", "console.resolution",
			"console.password",
			"firmware.tpm", "machine.clock", "machine.autostart", "machine.autostart_delay"),
		render.LeaveOut("a name or note for people on the whole fleet", "fleet.fleet", "fleet.about"),
		render.LeaveOut("the manifest has the checksums of the files that are imported", "image.sha256"),
	)
}

// mostDisks is how many disks a SCSI controller takes.
const mostDisks = 15

// needs reports what keeps a machine from running as defined.
func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	n := hypervisor.New("ovf", f, m)
	n.AMD64()
	if len(m.Disks) > mostDisks {
		n.Add("too-many-disks", finding.Error, finding.OfDisk(m, m.Disks[mostDisks], fleet.Itself),
			"machine %s has %d disks; the limit of its SCSI controller is %d", m.Name, len(m.Disks), mostDisks).
			Remedy = "give it fewer disks"
	}
	n.TextInXML()
	return n.Findings
}

// steps convert the image to the root disk, complete the manifest, and pack.
func steps(job *render.Job, machines []*fleet.Machine) []render.Step {
	var list []render.Step
	for _, m := range machines {
		for _, disc := range m.Media {
			command := fmt.Sprintf("cp %s %s", quote.Shell(job.Path(disc.Folder, disc.File)), discFile(disc))
			list = append(list, render.Step{About: "put the disc " + disc.Name + " where the descriptor of " + m.Name +
				" names it", Command: add(job, m, command, discFile(disc))})
		}
		image := job.Fleet.Image(m.Image)
		if image == nil || image.File == "" {
			continue
		}
		// The disc's own size is what importers use, so a copy grows first.
		command := fmt.Sprintf("qemu-img convert -O qcow2 %s root.part && qemu-img resize -q root.part %d && "+
			"qemu-img convert -O vmdk -o subformat=streamOptimized root.part %s && rm root.part",
			quote.Shell(job.Path(image.Folder, image.File)), int64(m.Disks[0].Size), rootFile)
		about := "make the root disk of " + m.Name + ", and list it in the manifest"
		if job.Options.Archive {
			about = "make the root disk of " + m.Name + ", and pack it"
		}
		list = append(list, render.Step{About: about, Command: add(job, m, command, rootFile)})
	}
	return list
}

// add returns a command that makes a file in a machine's folder, and adds it to what is
// imported: the manifest, or the archive.
func add(job *render.Job, m *fleet.Machine, command, file string) string {
	if job.Options.Archive {
		return fmt.Sprintf("(cd %s && %s && tar --append --file %s.ova --format ustar %s)", m.Name, command, m.Name, file)
	}
	return fmt.Sprintf(`(cd %s && %s && printf 'SHA256(%[3]s)= %%s\n' "$(sha256sum %[3]s | cut -d' ' -f1)" >>%[1]s.mf)`,
		m.Name, command, file)
}
