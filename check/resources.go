package check

import (
	"fmt"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

var memoryBelowNeed = Rule{
	Rule: finding.Rule{
		Name: "memory-below-need", Severity: finding.Error, Theme: "resources",
		Why:   "With less memory than its makers ask for, the system fails to boot, or kills programs at first boot in a way that looks like something else.",
		Wrong: example("  almanac: {image: bookworm, resources: {memory: 128MiB}}\n"),
		Right: example("  almanac: {image: bookworm, resources: {memory: 512MiB}}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		system, known := systemOf(f, m)
		if known && m.Resources.Memory < system.MinMemory {
			p.report(placeOf(m, &m.Resources.Origins, "memory"), machinePath(m, "resources", "memory"),
				fmt.Sprintf("machine %s has %v of memory, but %s needs %v", m.Name, m.Resources.Memory, system.Title, system.MinMemory),
				fmt.Sprintf("write memory: %v or more", system.MinMemory))
		}
	},
}

var diskBelowNeed = Rule{
	Rule: finding.Rule{
		Name: "disk-below-need", Severity: finding.Error, Theme: "resources",
		Why:   "The system does not fit on its root disk: the image cannot be laid on it, or the first packages fill it.",
		Wrong: example("  almanac: {image: bookworm, disks: {root: {size: 1GiB}}}\n"),
		Right: example("  almanac: {image: bookworm, disks: {root: {size: 10GiB}}}\n"),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		system, known := systemOf(f, m)
		if !known {
			return
		}
		for _, disk := range m.Disks {
			if disk.IsRoot() && disk.Size < system.MinDisk {
				p.report(placeOf(m, &disk.Origins, "size"), machinePath(m, "disks", disk.Name, "size"),
					fmt.Sprintf("the root disk of machine %s has %v, but %s needs %v", m.Name, disk.Size, system.Title, system.MinDisk),
					fmt.Sprintf("write size: %v or more", system.MinDisk))
			}
		}
	},
}

// systemOf returns the system on a machine's image, if both are known.
func systemOf(f *fleet.Fleet, m *fleet.Machine) (catalog.System, bool) {
	image := f.Image(m.Image)
	if image == nil {
		return catalog.System{}, false
	}
	return catalog.Find(f, image.OS)
}

// placeOf is where a value of a part of a machine stands, or the machine itself
// where the part is a default that stands nowhere.
func placeOf(m *fleet.Machine, part *fleet.Origins, key string) fleet.Place {
	if place := part.PlaceOf(key); place.IsValid() {
		return place
	}
	return m.PlaceOf(fleet.Itself)
}
