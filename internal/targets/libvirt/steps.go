package libvirt

import (
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/render"
)

// steps start the machines. They run in the output folder.
func steps(job *render.Job, machines []*fleet.Machine) []render.Step {
	return hypervisor.FleetSteps(job, machines)
}

// discTarget returns the target of a disc by its position among a machine's media.
// Disks on SCSI and SATA, and the seed if it is in a drive, take the first letters of sd.
func discTarget(f *fleet.Fleet, m *fleet.Machine, at int) string {
	letter := at
	if hypervisor.IsWindows(f, m) {
		letter++
	}
	for _, disk := range m.Disks {
		if busOf(f, m, disk) != fleet.VirtIO {
			letter++
		}
	}
	return "sd" + string(rune('a'+letter%26))
}
