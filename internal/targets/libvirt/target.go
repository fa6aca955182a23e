// Package libvirt renders machines as libvirt's XML: a domain, its volumes and
// its networks (https://libvirt.org/format.html), and the seed image.
package libvirt

import (
	"crypto/sha256"
	"fmt"
	"net/netip"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/internal/targets/seed"
	"stavren.example/stavren/render"
)

// Target renders one folder per machine and one for the networks.
var Target = render.Target{
	Name:    "libvirt",
	Summary: "domain, volume and network XML for libvirt, the seed image, and scripts that start the machines",
	Writes: []string{"MACHINE/run.sh", "fleet.sh", "MACHINE/domain.xml", "MACHINE/seed.iso", "networks/NETWORK.xml",
		"MACHINE/DISK.volume.xml", "MACHINE/filter.xml"},
	Fates:     fates,
	Overrides: overrides,
	Needs:     needs,
	Tools:     []string{"virsh"},
	Machine: func(job *render.Job, m *fleet.Machine) ([]render.File, error) {
		seedFile, err := seed.FileFor(job, m, environmentOf(job.Fleet, m))
		if err != nil {
			return nil, err
		}
		seedFile.Name = m.Name + "/" + seedFile.Name
		domain, err := domain(job, m)
		if err != nil {
			return nil, err
		}
		script, err := runScript(job, m)
		if err != nil {
			return nil, err
		}
		files := []render.File{{Name: m.Name + "/run.sh", Data: script, Mode: 0o755}, domain, seedFile}
		if hasFilter(job.Fleet, m) {
			files = append(files, filterFile(job.Fleet, m))
		}
		for _, disk := range m.Disks {
			files = append(files, volume(job, m, disk))
		}
		return files, nil
	},
	Fleet: func(job *render.Job) ([]render.File, error) {
		script, err := hypervisor.FleetScript(job.Fleet, "libvirt", false)
		if err != nil {
			return nil, err
		}
		files := []render.File{{Name: "fleet.sh", Data: script, Mode: 0o755}}
		for _, network := range usedNetworks(job.Fleet, job.Machines()) {
			files = append(files, networkFile(job.Fleet, network))
		}
		return files, nil
	},
	Steps: steps,
}

// environmentOf is Virtio, except for disks on a bus that libvirt doesn't emulate.
func environmentOf(f *fleet.Fleet, m *fleet.Machine) cloudinit.Environment {
	e := cloudinit.Virtio
	e.Firewall = hypervisor.FirewallInside("libvirt")
	e.DiskDevice = func(disk *fleet.Disk) string {
		other := *disk
		other.Bus = busOf(f, m, disk)
		return cloudinit.Virtio.DiskDevice(&other)
	}
	if usesPasst(f) {
		// passt answers for the gateway that it took from the host, not for ours.
		e.HandsOut = forwards
	}
	e.NoDHCP = func(network *fleet.Network) bool { return network.Mode == fleet.Isolated }
	e.NameServer = func(network *fleet.Network) netip.Addr {
		if network.Mode != fleet.HostOnly {
			return netip.Addr{}
		}
		return hypervisor.HostAddress(f, network)
	}
	e.SearchDomain = func(f *fleet.Fleet, m *fleet.Machine, nic *fleet.NIC) string {
		network := f.Network(nic.Network)
		if forwards(f, m, nic) || network.Mode != fleet.HostOnly && network.Mode != fleet.NAT || cloudinit.HasOwnDNS(network) {
			return ""
		}
		return domainOf(f, network)
	}
	return e
}

func fates() []render.Fate {
	return render.Merge(cloudinit.Fates(), cloudinit.CloudFates(),
		hypervisor.FirewallFates(", and a filter of libvirt's for interfaces on its networks"),
		render.Carry(
			"image.arch", "machine.image", "machine.about", "machine.clock",
			"resources.cpus", "resources.memory", "disk.size", "disk.format", "disk.bus",
			"medium.file", "medium.boot_first", "nic.model", "network.bridge", "network.mode", "network.dhcp_first",
			"network.dhcp_last",
			"share.host", "share.machine", "console.protocol", "console.listen", "console.port", "console.resolution",
			"firmware.kind", "firmware.secure_boot", "firmware.tpm"),
		render.Adapt("it precedes the names of domains, networks and volumes", "fleet.fleet"),
		render.Adapt("the script uploads it into the volume", "image.file", "disk.start"),
		render.Adapt("QEMU's network in user mode forwards it, on the machine's first nat network, which is then the "+
			"machine's own; with the setting forward: passt, passt does",
			"port.host", "port.machine", "port.protocol", "port.listen"),
		render.Adapt("run.sh remove leaves the volume of a disk that is kept", "disk.keep"),
		render.Adapt("the script ejects it after the first start, for the next one", "medium.eject"),
		render.Adapt("as processor shares", "resources.priority"),
		render.Adapt("libvirt's name server gives the names of machines with fixed addresses", "machine.names"),
		render.Adapt("in the first-boot data of interfaces with a fixed address, or that the definition names; others "+
			"get libvirt's or QEMU's, and libvirt's name server knows the machines of a network without a search domain "+
			"in FLEET.internal", "network.dns", "network.search"),
		render.Adapt("by virsh autostart, in the script", "machine.autostart"),
		render.Adapt("every machine has a serial console, even with a graphical one", "console.kind"),
		render.Adapt("it is in domain.xml; VNC uses only its first eight characters", "console.password"),
		render.Adapt("the machine mounts it read-only; virtiofs itself would let it write", "share.read_only"),
		render.LeaveOut("libvirt starts all machines at once with the host", "machine.autostart_delay"),
		render.LeaveOut("a note for people on the whole fleet", "fleet.about"),
		render.LeaveOut("libvirt uses the file as it is; check --here compares it with its checksum", "image.sha256"),
	)
}

func overrides(job *render.Job, m *fleet.Machine) []render.Fate {
	fates := render.Merge(cloudinit.Overrides(job, m), hypervisor.WithoutFirewalls(job.Fleet, "libvirt"))
	if catalog.Of(job.Fleet, m).Family.Class() == catalog.ClassWindows {
		fates = render.Merge(fates, hypervisor.GuestToolsInImage(), hypervisor.DriversOfImage(),
			render.Adapt("libvirt's name server knows the machine's full name", "machine.domain"))
	}
	for _, disk := range m.Disks {
		if disk.Bus == fleet.NVMe {
			return render.Merge(fates, render.Adapt("libvirt emulates no NVMe, so the disk is on virtio", "disk.bus"))
		}
	}
	return fates
}

// needs reports what keeps a machine from running as defined.
func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	n := hypervisor.New("libvirt", f, m)
	n.ImageFile("")
	n.NATForPorts()
	if nic := f.ForwardingNIC(m); nic != nil && len(m.Ports) > 0 && len(f.OnNetwork(nic.Network)) > 1 {
		n.Apart(f.Network(nic.Network))
	}
	n.TextInXML()
	if m.Name == networksFolder && f.Network("domain") != nil {
		n.Add("name-refused", finding.Error, finding.OfMachine(m, fleet.Itself),
			"the files of machine %s and network domain would have one name, %s/domain.xml", m.Name, networksFolder).
			Remedy = "rename the machine or the network"
	}
	return n.Findings
}

// networksFolder has the files of all networks.
const networksFolder = "networks"

// qualified returns a name that no other fleet on the host has.
func qualified(f *fleet.Fleet, name string) string { return f.Name + "-" + name }

// uuid derives a UUID from names (RFC 9562, version 8), so that defining a machine
// again changes it instead of adding another.
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
