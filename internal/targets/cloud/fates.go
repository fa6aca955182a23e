package cloud

import (
	"fmt"
	"slices"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// Overrides returns the fates that differ for one machine: which size it gets, what
// becomes of its ports, and what its system doesn't read.
func (c *Cloud) Overrides(job *render.Job, m *fleet.Machine) []render.Fate {
	fates := slices.Clone(cloudinit.Overrides(job, m))
	if c.FirstBoot.WindowsScript != nil && catalog.Of(job.Fleet, m).Family.Class() == catalog.ClassWindows {
		fates = render.Merge(fates, cloudinit.WindowsScriptFates())
	}
	if o, why, err := c.SizeOf(job, m); err == nil {
		how := fmt.Sprintf("size %s, %s: %d cpus and %v", o.Size.Name, why, o.CPUs, o.Memory)
		fates = append(fates, render.Adapt(how, "resources.cpus", "resources.memory")...)
	}
	for _, key := range []string{"region", "zone"} {
		if c.special(job.Fleet, m, key) != "" {
			fates = append(fates, render.LeaveOut("platforms names one for "+c.Name, "machine."+key)...)
		}
	}
	if !m.PublicAddress {
		fates = append(fates, render.LeaveOut("there is no host to listen on, and the machine has no public address",
			"port.machine", "port.protocol")...)
	}
	return fates
}

// Fates returns the fates of fields that most clouds share. A target merges its own
// over them.
func Fates() []render.Fate {
	return render.Merge(cloudinit.Fates(),
		render.Carry("fleet.fleet", "machine.image", "image.ids", "machine.labels", "machine.public_address",
			"machine.firewall", "allowance.port", "allowance.from", "disk.size", "disk.keep", "nic.address",
			"platform.region", "platform.zone", "platform.network", "platform.settings", "platform.size",
			"machine.region", "machine.zone"),
		render.Adapt("the size that is named, or the closest fit", "resources.cpus", "resources.memory"),
		render.Adapt("it decides which sizes fit", "image.arch"),
		render.Adapt("an allow rule for the port inside the machine, open to everyone, unless a firewall of the "+
			"machine has an entry for the port",
			"port.machine", "port.protocol"),
		render.LeaveOut("there is no host to listen on", "port.host", "port.listen"),
		render.LeaveOut("the cloud's network provides what the machine needs", "network.dns", "network.search",
			"network.gateway", "network.dhcp_first", "network.dhcp_last", "nic.also", "route.to", "route.via",
			"nic.hardware_address"),
		render.LeaveOut("the cloud has only one kind of machine in this respect", "nic.model", "disk.bus",
			"disk.format",
			"firmware.kind", "firmware.secure_boot", "firmware.tpm", "machine.clock", "resources.priority",
			"console.kind", "console.protocol", "console.listen", "console.port", "console.resolution",
			"console.password"),
		render.LeaveOut("it belongs to a host, and a cloud shows none", "share.host", "share.machine",
			"share.read_only",
			"medium.file", "medium.boot_first", "medium.eject", "machine.autostart", "machine.autostart_delay",
			"network.bridge", "first_boot.guest_tools"),
		render.LeaveOut("the cloud boots its own copy, named in ids", "image.file", "image.sha256",
			"disk.start"),
		render.LeaveOut("names are created in DNS, not here", "machine.names"),
		render.LeaveOut("the platform has public sizes of its own", "size.cpus", "size.memory", "size.disk"),
		render.LeaveOut("the platform's public addresses come from one pool", "platform.address_pool"),
		render.LeaveOut("a note for people, which the platform does not keep", "fleet.about", "machine.about"),
		render.Carry("disk.label"),
	)
}
