package check

import (
	"fmt"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

func limitRules() []rule {
	return []rule{
		ofAllFleets("over-host-memory", finding.Error, overHostMemory),
		ofAllFleets("over-host-cpus", finding.Warning, overHostCPUs),
		ofAllFleets("over-quota", finding.Error, overQuota),
	}
}

// demand is what the machines of all fleets ask for.
type demand struct {
	machines, cpus, addresses int
	// mostCPUs is the largest number of processors of one machine.
	mostCPUs     int
	memory, disk fleet.Bytes
}

func (t together) demand() demand {
	var d demand
	for _, m := range t.machines() {
		d.machines++
		d.cpus += m.Resources.CPUs
		d.mostCPUs = max(d.mostCPUs, m.Resources.CPUs)
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

// eachLimit visits the limits of the host, or those of platforms.
func (t together) eachLimit(host bool, visit func(r reporter, limit *fleet.Limit, all demand)) {
	all := t.demand()
	for _, f := range t.fleets {
		for _, limit := range f.Limits {
			if (limit.Name == "host") == host {
				visit(t.of(f, nil), limit, all)
			}
		}
	}
}

func overHostMemory(t together) {
	t.eachLimit(true, func(r reporter, limit *fleet.Limit, all demand) {
		available := limit.Memory * fleet.Bytes(100-limit.Reserve) / 100
		if limit.Memory > 0 && all.memory > available {
			r.report(finding.OfLimit(limit, "memory"), "the machines need %s of memory; the host has %s available",
				readable(all.memory), readable(available)).
				remedy("give some machines less memory, remove some, or lower the reserve")
		}
	})
}

func overHostCPUs(t together) {
	t.eachLimit(true, func(r reporter, limit *fleet.Limit, all demand) {
		if limit.CPUs > 0 && (all.mostCPUs > limit.CPUs || all.cpus > 4*limit.CPUs) {
			r.report(finding.OfLimit(limit, "cpus"),
				"the machines have %d virtual processors, the largest machine %d; the host has %d", all.cpus,
				all.mostCPUs, limit.CPUs).
				remedy("give machines fewer cpus")
		}
	})
}

func overQuota(t together) {
	t.eachLimit(false, func(r reporter, limit *fleet.Limit, all demand) {
		for _, quota := range []struct {
			key           string
			needed, limit int64
			need, quota   string
		}{
			{"machines", int64(all.machines), int64(limit.Machines), fmt.Sprintf("%d machines", all.machines),
				fmt.Sprint(limit.Machines)},
			{"cpus", int64(all.cpus), int64(limit.CPUs), fmt.Sprintf("%d cpus", all.cpus), fmt.Sprint(limit.CPUs)},
			{"memory", int64(all.memory), int64(limit.Memory), readable(all.memory) + " of memory",
				limit.Memory.String()},
			{"disk", int64(all.disk), int64(limit.Disk), readable(all.disk) + " of disk", limit.Disk.String()},
			{"public_addresses", int64(all.addresses), int64(limit.PublicAddresses),
				fmt.Sprintf("%d public addresses", all.addresses), fmt.Sprint(limit.PublicAddresses)},
		} {
			if quota.limit > 0 && quota.needed > quota.limit {
				r.report(finding.OfLimit(limit, quota.key), "the fleet needs %s on %s; the quota is %s", quota.need,
					limit.Name, quota.quota).
					remedy("ask for less, or have the quota raised first")
			}
		}
	})
}

// readable writes an amount in GiB with one decimal, unless it is a round number.
func readable(amount fleet.Bytes) string {
	if amount < fleet.GiB || amount%fleet.GiB == 0 {
		return amount.String()
	}
	return fmt.Sprintf("%.1fGiB", float64(amount)/float64(fleet.GiB))
}
