package check

import (
	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

func resourceRules() []rule {
	return []rule{
		ofMachine("memory-below-need", finding.Error, memoryBelowNeed),
		ofMachine("disk-below-need", finding.Error, diskBelowNeed),
	}
}

func memoryBelowNeed(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	system, ok := systemOf(f, m)
	if ok && m.Resources.Memory < system.MinMemory {
		r.report(finding.OfResources(m, "memory"), "machine %s has %v of memory, but %s needs %v",
			m.Name, m.Resources.Memory, system.Title, system.MinMemory).
			remedy("write memory: %v or more", system.MinMemory)
	}
}

func diskBelowNeed(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	system, ok := systemOf(f, m)
	if !ok {
		return
	}
	for _, disk := range m.Disks {
		if disk.IsRoot() && disk.Size < system.MinDisk {
			r.report(finding.OfDisk(m, disk, "size"), "the root disk of machine %s has %v, but %s needs %v",
				m.Name, disk.Size, system.Title, system.MinDisk).
				remedy("write size: %v or more", system.MinDisk)
		}
	}
}
