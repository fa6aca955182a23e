package check

import (
	"fmt"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// limitExample is two machines of 2 processors and 2GiB each, and a limit.
func limitExample(limit string) string {
	return example("  almanac: {image: bookworm, resources: {cpus: 2, memory: 2GiB}}\n  store: {image: bookworm, resources: {cpus: 2, memory: 2GiB}}\n" + limit)
}

// demand is what the machines of a load ask for together.
type demand struct {
	machines, cpus, addresses int
	memory, disk              fleet.Bytes
}

func (p *pass) demand() demand {
	var d demand
	for _, m := range p.machines() {
		d.machines++
		d.cpus += m.Resources.CPUs
		d.memory += m.Resources.Memory
		if m.PublicAddress {
			d.addresses++
		}
		for _, disk := range m.Disks {
			d.disk += disk.Size
		}
	}
	return d
}

// forLimits visits the limits of every fleet that are, or are not, the host's.
func forLimits(p *pass, host bool, visit func(limit *fleet.Limit, all demand)) {
	all := p.demand()
	for f := range p.each() {
		for _, limit := range f.Limits {
			if (limit.Name == "host") == host {
				visit(limit, all)
			}
		}
	}
}

var overHostMemory = Rule{
	Rule: finding.Rule{
		Name: "over-host-memory", Severity: finding.Error, Theme: "limits",
		Why:   "Together the machines ask for more memory than the host has to give beside its own reserve. The last ones do not start, or everything swaps.",
		Wrong: limitExample("limits:\n  host: {memory: 6GiB, reserve: 50%}\n"),
		Right: limitExample("limits:\n  host: {memory: 8GiB, reserve: 50%}\n"),
	},
	load: func(p *pass) {
		forLimits(p, true, func(limit *fleet.Limit, all demand) {
			room := limit.Memory * fleet.Bytes(100-limit.Reserve) / 100
			if limit.Memory > 0 && all.memory > room {
				p.report(limit.PlaceOf("memory"), "limits.host.memory",
					fmt.Sprintf("the machines ask for %v of memory, and the host has %s to give", about(all.memory), about(room)),
					"give some machines less memory, leave some out, or lower the reserve")
			}
		})
	},
}

var overHostCPUs = Rule{
	Rule: finding.Rule{
		Name: "over-host-cpus", Severity: finding.Warning, Theme: "limits",
		Why:   "One machine has more virtual processors than the host has processors, or all together have more than four times as many. They wait for each other.",
		Wrong: limitExample("limits:\n  host: {cpus: 1}\n"),
		Right: limitExample("limits:\n  host: {cpus: 4}\n"),
	},
	load: func(p *pass) {
		forLimits(p, true, func(limit *fleet.Limit, all demand) {
			most := 0
			fleetAt, machineAt := p.fleet, p.machine
			for _, m := range p.machines() {
				most = max(most, m.Resources.CPUs)
			}
			p.fleet, p.machine = fleetAt, machineAt
			if limit.CPUs > 0 && (most > limit.CPUs || all.cpus > 4*limit.CPUs) {
				p.report(limit.PlaceOf("cpus"), "limits.host.cpus",
					fmt.Sprintf("the machines have %d virtual processors, the largest %d, and the host has %d", all.cpus, most, limit.CPUs), "give machines fewer cpus")
			}
		})
	},
}

var overQuota = Rule{
	Rule: finding.Rule{
		Name: "over-quota", Severity: finding.Error, Theme: "limits",
		Why:   "The machines of all files together exceed what the platform grants. It refuses half-way, with some of them made.",
		Wrong: limitExample("limits:\n  heat: {machines: 1}\n"),
		Right: limitExample("limits:\n  heat: {machines: 2}\n"),
	},
	load: func(p *pass) {
		forLimits(p, false, func(limit *fleet.Limit, all demand) {
			for _, q := range []struct {
				key         string
				asked, most int64
				text        string
			}{
				{"machines", int64(all.machines), int64(limit.Machines), fmt.Sprintf("%d machines of %d", all.machines, limit.Machines)},
				{"cpus", int64(all.cpus), int64(limit.CPUs), fmt.Sprintf("%d cpus of %d", all.cpus, limit.CPUs)},
				{"memory", int64(all.memory), int64(limit.Memory), fmt.Sprintf("%s of memory of %v", about(all.memory), limit.Memory)},
				{"disk", int64(all.disk), int64(limit.Disk), fmt.Sprintf("%s of disk of %v", about(all.disk), limit.Disk)},
				{"public_addresses", int64(all.addresses), int64(limit.PublicAddresses), fmt.Sprintf("%d public addresses of %d", all.addresses, limit.PublicAddresses)},
			} {
				if q.most > 0 && q.asked > q.most {
					p.report(limit.PlaceOf(q.key), "limits."+limit.Name+"."+q.key,
						fmt.Sprintf("the fleet asks %s for %s that are granted", limit.Name, q.text), "ask for less, or have the quota raised first")
				}
			}
		})
	},
}

// about writes an amount for people: to a tenth of a GiB where it has one.
func about(amount fleet.Bytes) string {
	if amount < fleet.GiB || amount%fleet.GiB == 0 {
		return amount.String()
	}
	return fmt.Sprintf("%.1fGiB", float64(amount)/float64(fleet.GiB))
}
