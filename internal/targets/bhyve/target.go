// Package bhyve renders machines for FreeBSD's hypervisor: a configuration file
// (bhyve_config(5)), a script that creates disks and interfaces and runs it,
// packet-filter rules for its ports, and the seed image.
package bhyve

import (
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
	Name:    "bhyve",
	Summary: "a configuration file, a run script and packet-filter rules for bhyve, and the seed image",
	Writes: []string{"MACHINE/bhyve.conf", "MACHINE/run.sh", "fleet.sh", "MACHINE/seed.iso", "MACHINE/ports.pf.conf",
		"FLEET.rc"},
	Fates:     fates,
	Overrides: overrides,
	Needs:     needs,
	Tools:     []string{"bhyve", "bhyvectl", "qemu-img"},
	Machine: func(job *render.Job, m *fleet.Machine) ([]render.File, error) {
		seedFile, err := seed.FileFor(job, m, environment)
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
		if rules := packetFilter(job.Fleet, m); rules != "" {
			files = append(files, render.File{Name: m.Name + "/" + rulesFile, Data: []byte(rules), Mode: 0o644})
		}
		return files, nil
	},
	Fleet: func(job *render.Job) ([]render.File, error) {
		script, err := hypervisor.FleetScript(job.Fleet, "bhyve", true)
		if err != nil {
			return nil, err
		}
		rc, err := service(job)
		return append([]render.File{{Name: "fleet.sh", Data: script, Mode: 0o755}}, rc...), err
	},
	Steps: hypervisor.FleetSteps,
}

// busOf returns the bus of a disk. SCSI would need a target of ctl(4), which a
// machine can't provide.
func busOf(disk *fleet.Disk) fleet.DiskBus {
	if disk.Bus == fleet.SCSI {
		return fleet.VirtIO
	}
	return disk.Bus
}

// environment is bhyve's emulation, which passes serials on as QEMU's does, with
// other names of models (usr.sbin/bhyve: pci_ahci.c, pci_nvme.c).
var environment = cloudinit.Environment{
	DiskDevice: func(disk *fleet.Disk) string {
		model := map[fleet.DiskBus]string{fleet.VirtIO: "virtio-", fleet.SATA: "ata-BHYVE_SATA_DISK_",
			fleet.NVMe: "nvme-bhyve-NVMe_"}[busOf(disk)]
		return "/dev/disk/by-id/" + model + disk.Serial
	},
	NoDHCP:     func(network *fleet.Network) bool { return network.Mode != fleet.Bridged },
	ShareType:  "9p",
	Neighbours: true,
}

func fates() []render.Fate {
	return render.Merge(cloudinit.Fates(), cloudinit.CloudFates(),
		render.Adapt("as rules for the host's packet filter at the machine's interfaces; the setting firewall: none "+
			"leaves them out", "machine.firewall", "allowance.port", "allowance.from"),
		render.Carry(
			"image.file", "machine.image", "machine.about", "machine.clock",
			"resources.cpus", "resources.memory", "disk.size", "disk.format", "disk.bus", "disk.start",
			"medium.file", "nic.model", "network.bridge", "share.host", "share.machine", "share.read_only",
			"console.kind", "console.listen", "console.port", "console.resolution"),
		render.Adapt("the firmware is told the order of devices, from FreeBSD 14 on", "medium.boot_first"),
		render.Adapt("the host redirects it by its packet filter; one that listens on the loopback alone is not "+
			"forwarded, since the host reaches the machine at its own address", "port.host", "port.machine",
			"port.protocol", "port.listen"),
		render.Adapt("every network is a bridge of the host; the script gives it an address of the host's unless it is "+
			"isolated, and machines without an address get a permanent one", "network.mode"),
		render.Adapt("the host hands questions to its gateway's address on to its own name server, if the definition "+
			"names none", "network.dns"),
		render.Adapt("bhyve boots every machine by UEFI", "firmware.kind"),
		render.Adapt("by a service of the host, once it is enabled as its first lines say", "machine.autostart",
			"machine.autostart_delay"),
		render.Adapt("run.sh remove leaves a disk that is kept", "disk.keep"),
		render.Adapt("it precedes the names of bridges", "fleet.fleet"),
		render.Adapt("it is in bhyve.conf; VNC uses only its first eight characters", "console.password"),
		render.LeaveOut("bhyve runs only machines of its host's architecture", "image.arch"),
		render.LeaveOut("bhyve has no channel to a helper in the machine", "first_boot.guest_tools"),
		render.LeaveOut("bhyve has no setting for it", "resources.priority", "console.protocol", "firmware.secure_boot",
			"firmware.tpm", "medium.eject"),
		render.LeaveOut("no DHCP server runs on the bridges", "network.dhcp_first", "network.dhcp_last"),
		render.LeaveOut("a note for people on the whole fleet", "fleet.about"),
		render.LeaveOut("the script uses the file as it is; check --here compares it with its checksum",
			"image.sha256"),
	)
}

func overrides(job *render.Job, m *fleet.Machine) []render.Fate {
	fates := render.Merge(cloudinit.Overrides(job, m), hypervisor.WithoutFirewalls(job.Fleet, "bhyve"))
	if hypervisor.IsWindows(job.Fleet, m) {
		fates = render.Merge(fates, hypervisor.DriversOfImage())
	}
	for _, disk := range m.Disks {
		if disk.Bus == fleet.SCSI {
			return render.Merge(fates, render.Adapt("on virtio, since SCSI needs a target on the host", "disk.bus"))
		}
	}
	return fates
}

// mostDevices is how many of the 32 slots of a bus are left beside the host bridge,
// the drive, random numbers, the screen, the pointer and the bridge to old devices.
const mostDevices = 26

// needs reports what keeps a machine from running as defined.
func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	n := hypervisor.New("bhyve", f, m)
	n.AMD64()
	n.ImageFile("")
	if devices := len(m.Disks) + len(m.NICs) + len(m.Shares); devices > mostDevices {
		n.Add("too-many-devices", finding.Error, finding.OfMachine(m, "disks"),
			"machine %s has %d disks, interfaces and shares; the limit is %d", m.Name, devices, mostDevices).
			Remedy = "give it fewer"
	}
	if len(m.Ports) > 0 && !forwardTo(f, m).IsValid() {
		n.Add("port-without-address", finding.Error, finding.OfPort(m, m.Ports[0], fleet.Itself),
			"machine %s forwards ports but has no fixed address that a redirect rule could name", m.Name).
			Remedy = "give its interface on a nat network an address"
	}
	for _, port := range m.Ports {
		to := forwardTo(f, m)
		if to.IsValid() && redirected(port) && !port.Listen.IsUnspecified() && port.Listen.Is6() != to.Is6() {
			n.Add("port-without-address", finding.Error, finding.OfPort(m, port, "listen"),
				"port %s of machine %s listens on %v, which the packet filter can't redirect to %v", port.Name, m.Name, port.Listen,
				to).
				Remedy = "listen on an address of the machine's family"
		}
	}
	if catalog.Of(f, m).TPM || m.Firmware.TPM {
		n.Add("no-tpm", finding.Warning, finding.OfFirmware(m, "tpm"),
			"machine %s asks for a TPM, but bhyve has none without a device of the host", m.Name).
			Remedy = "render the machine for qemu or libvirt, or do without"
	}
	return n.Findings
}
