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
			if len(m.Media) > 0 || slices.ContainsFunc(m.Disks, func(disk *fleet.Disk) bool {
				return contentOf(job.Fleet, m, disk) != ""
			}) {
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
	fates := render.Merge(cloudinit.Overrides(job, m), hypervisor.WithoutFirewalls(job.Fleet, "ovf"))
	if hypervisor.IsWindows(job.Fleet, m) {
		fates = render.Merge(fates, hypervisor.DriversOfImage())
	}
	return fates
}

// environment is a hypervisor whose disks have no serial inside the machine. They are
// found by their place on the controller and linked to names of our own.
var environment = cloudinit.Environment{
	DiskDevice:    func(disk *fleet.Disk) string { return "/dev/stavren/" + disk.Name },
	FindDisk:      findDisk,
	FindOnFreeBSD: findOnFreeBSD,
	NewAddresses:  true,
	GuestTools:    "open-vm-tools",
	Firewall:      hypervisor.FirewallInside("ovf"),
	Neighbours:    true,
}

// findDisk returns a command that prints the device at a disk's place: its target on
// SCSI, or its port on the controller for SATA.
func findDisk(m *fleet.Machine, disk *fleet.Disk) string {
	if disk.Bus == fleet.SATA {
		return fmt.Sprintf("for p in /sys/bus/pci/drivers/ahci/*/ata*; do "+
			"[ \"$(cat $p/ata_port/*/port_no)\" != %d ] || for b in $p/host*/target*/*/block/sd*; do "+
			"echo /dev/${b##*/}; done; done", unitOf(m, disk)+1)
	}
	// Drives on IDE and disks on SATA have such places as well.
	return fmt.Sprintf("for b in /sys/bus/scsi/devices/*:0:%d:0/block/sd*; do case $(readlink -f $b) in */ata[0-9]*) ;; "+
		"*) echo /dev/${b##*/} ;; esac; done", unitOf(m, disk))
}

// findOnFreeBSD returns a command that prints the name of the disk at a place, as
// camcontrol(8) lists them: da by targets on SCSI, and ada by ports on SATA.
func findOnFreeBSD(m *fleet.Machine, disk *fleet.Disk) string {
	if disk.Bus == fleet.SATA {
		return fmt.Sprintf(`camcontrol devlist | sed -n "s/.*[(,]\(ada[0-9]*\)[,)].*/\1/p" | sed -n %dp`, unitOf(m, disk)+1)
	}
	return fmt.Sprintf(`camcontrol devlist | sed -n "s/.* target %d lun 0 .*[(,]\(da[0-9]*\)[,)].*/\1/p"`, unitOf(m, disk))
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
	return render.Merge(cloudinit.Fates(), cloudinit.CloudFates(), hypervisor.FirewallFates(""),
		render.Carry("machine.image", "machine.about", "resources.cpus", "resources.memory", "disk.size", "nic.model",
			"firmware.kind", "firmware.secure_boot"),
		render.Adapt("the printed commands convert it to a disc image beside the descriptor", "image.file", "disk.start"),
		render.Adapt("importers make new ones, so a machine with one interface doesn't look for its own; one with "+
			"several does, and has to keep them", "nic.hardware_address"),
		render.Adapt("a name in the network section, which is mapped to one of the hypervisor's networks on import",
			"network.mode", "network.bridge"),
		render.Adapt("sata is AHCI; every other disk is on one SCSI controller, which is para-virtual on Linux and "+
			"FreeBSD and serial-attached on Windows, as their drivers are", "disk.bus"),
		render.Adapt("a drive with the disc's file, which must be beside the descriptor when it is imported",
			"medium.file"),
		render.LeaveOut("OVF has no element for forwarded ports; set them in the hypervisor", "port.host", "port.listen"),
		render.Adapt("OVF has no element for forwarded ports; set them in the hypervisor. The machine's firewalls let "+
			"them in", "port.machine", "port.protocol"),
		render.LeaveOut("OVF has no element for it; set it in the hypervisor after the import",
			"image.arch", "resources.priority", "disk.format", "disk.keep", "medium.boot_first",
			"medium.eject",
			"network.dhcp_first", "network.dhcp_last", "share.host", "share.machine", "share.read_only",
			"console.kind", "console.protocol", "console.listen", "console.port", "console.resolution",
			"console.password",
			"firmware.tpm", "machine.clock", "machine.autostart", "machine.autostart_delay"),
		render.LeaveOut("a name or note for people on the whole fleet", "fleet.fleet", "fleet.about"),
		render.LeaveOut("the manifest has the checksums of the files that are imported", "image.sha256"),
	)
}

// How many disks a SCSI controller and a SATA controller take, and drives IDE.
const (
	mostSCSI   = 15
	mostSATA   = 30
	mostDrives = 4
)

// needs reports what keeps a machine from running as defined.
func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	n := hypervisor.New("ovf", f, m)
	n.AMD64()
	limits := map[int]int{typeSCSI: mostSCSI, typeSATA: mostSATA}
	names := map[int]string{typeSCSI: "SCSI", typeSATA: "SATA"}
	count := map[int]int{}
	for _, disk := range m.Disks {
		kind := controllerOf(f, m, disk).kind
		if count[kind]++; count[kind] == limits[kind]+1 {
			n.Add("too-many-disks", finding.Error, finding.OfDisk(m, disk, fleet.Itself),
				"machine %s has more than %d disks on %s, the limit of its controller", m.Name, limits[kind], names[kind]).
				Remedy = "give it fewer disks, or put some on the other of sata and scsi"
		}
	}
	if len(m.Media) >= mostDrives {
		n.Add("too-many-devices", finding.Error, finding.OfMachine(m, "media"),
			"machine %s has %d drives beside the one with first-boot data; the limit is %d", m.Name, len(m.Media),
			mostDrives-1).
			Remedy = "remove some of its media"
	}
	if len(m.NICs) > 1 {
		n.Add("addresses-must-be-kept", finding.Warning, finding.OfMachine(m, "nics"),
			"machine %s tells its %d interfaces apart by their hardware addresses, and importers make new ones", m.Name,
			len(m.NICs)).
			Remedy = "keep the addresses when you import it, or set them to those of the descriptor before its first start"
	}
	n.TextInXML()
	return n.Findings
}
