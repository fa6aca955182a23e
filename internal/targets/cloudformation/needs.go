package cloudformation

import (
	"fmt"
	"net/netip"
	"slices"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/render"
)

// Limits of a template (docs.aws.amazon.com, "CloudFormation quotas").
const (
	maxResources = 500
	maxTemplate  = 1_000_000
	// fewMachines can't reach the limits, so nothing is counted.
	fewMachines = 40
)

// Prefix lengths of subnets ("Subnet CIDR blocks"), and how many addresses at the
// start of a subnet the platform reserves.
const (
	shortestPrefix    = 16
	longestPrefix     = 28
	reservedAddresses = 4
)

// needs adds the platform's rules for templates, subnets and disks.
func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	report := finding.Report{Machine: m.Name, Findings: platform.Needs(f, m)}
	if m == f.Machines[0] && len(f.Machines) > fewMachines {
		if excess := excess(f); excess != "" {
			report.Add("template-too-large", finding.Error, finding.OfFleet(f, "machines"), "%s", excess).
				Remedy = "split the definition into several, each a stack of its own"
		}
	}
	if !isOwn(f, m) && platform.Value(f, m, vpcSetting.Key) == "" {
		report.Findings = append(report.Findings, platform.Missing(f, m, vpcSetting, fmt.Sprint(vpcOf(f, m))))
	}
	if isOwn(f, m) {
		oneZone(&report, f, m)
		oneBlock(&report, f, m)
		for _, nic := range m.NICs {
			if network := f.Network(nic.Network); network != nil {
				subnet(&report, network, m, nic)
			}
		}
	}
	if len(m.Disks) > mostDisks {
		report.Add("too-many-disks", finding.Error, finding.OfMachine(m, "disks"),
			"machine %s has %d disks; there are device names for %d", m.Name, len(m.Disks), mostDisks).
			Remedy = "give it fewer disks"
	}
	return report.Findings
}

// excess says which limit a fleet's template exceeds, or returns "".
func excess(f *fleet.Fleet) string {
	t := newTemplate(cloud.WithoutSecrets(f))
	files, err := t.render()
	switch {
	case err != nil:
		return "" // rendering reports it
	case t.resources.Len() > maxResources:
		return fmt.Sprintf("the template has %d resources; the limit is %d", t.resources.Len(), maxResources)
	case len(files[0].Data) > maxTemplate:
		return fmt.Sprintf("the template has %d bytes; the limit is %d", len(files[0].Data), maxTemplate)
	}
	return ""
}

// subnet reports a subnet, or an address in it, that the platform refuses.
func subnet(report *finding.Report, network *fleet.Network, m *fleet.Machine, nic *fleet.NIC) {
	bits := network.Subnet.Bits()
	switch {
	case !network.Subnet.IsValid():
		report.Add("subnet-of-platform", finding.Error, finding.OfNetwork(network, "subnet"),
			"network %s has no subnet, so the platform can't create it", network.Name).
			Remedy = "write a subnet between /16 and /28, or name one of the platform's under platforms"
	case bits < shortestPrefix || bits > longestPrefix:
		report.Add("subnet-of-platform", finding.Error, finding.OfNetwork(network, "subnet"),
			"network %s has the subnet %v, but the platform only creates subnets from /%d to /%d",
			network.Name, network.Subnet, shortestPrefix, longestPrefix).
			Remedy = "choose a subnet of such a size, or name one of the platform's under platforms"
	case cloud.Reserves(network.Subnet, nic.Address, reservedAddresses):
		report.Add("address-of-platform", finding.Error, finding.OfNIC(m, nic, "address"),
			"machine %s has the address %v, but the platform reserves the first four of a subnet", m.Name, nic.Address).
			Remedy = "choose an address from the fifth of the subnet on"
	}
}

// oneZone reports a machine whose zone is not that of the others on one of its networks:
// a subnet is in one zone.
func oneZone(report *finding.Report, f *fleet.Fleet, m *fleet.Machine) {
	zone := platform.Value(f, m, "zone")
	for _, nic := range m.NICs {
		network := f.Network(nic.Network)
		if network == nil {
			continue
		}
		beside := f.OnNetwork(network.Name)
		at := slices.IndexFunc(beside, func(b fleet.Attachment) bool { return isOwn(f, b.Machine) })
		if at < 0 {
			continue
		}
		first := beside[at].Machine
		if other := platform.Value(f, first, "zone"); other != zone {
			report.Add("zones-on-one-subnet", finding.Error, finding.OfMachine(m, "zone"),
				"machine %s is in zone %s, but %s on the same network %s is in %s, and a subnet is in one zone", m.Name,
				orFirst(zone), first.Name, network.Name, orFirst(other)).
				Remedy = "put machines of one zone on one network, or name subnets of the platform's under platforms"
			return
		}
	}
}

func orFirst(zone string) string {
	if zone == "" {
		return "the region's first"
	}
	return zone
}

// privateBlocks are the blocks of which only one can be in a VPC (RFC 1918; "VPC CIDR
// blocks", restrictions).
func privateBlocks() []netip.Prefix {
	return []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("172.16.0.0/12"),
		netip.MustParsePrefix("192.168.0.0/16")}
}

// oneBlock reports a network whose subnet is in another block for private use than the
// first one's, if no one range covers all.
func oneBlock(report *finding.Report, f *fleet.Fleet, m *fleet.Machine) {
	if m != f.Machines[0] {
		return // once for all
	}
	used := cloud.UsedNetworks(f, newTemplate(&render.Job{Fleet: f}).own())
	if len(used) < 2 {
		return
	}
	if _, one := cover(used); one {
		return
	}
	blockOf := func(network *fleet.Network) int {
		return slices.IndexFunc(privateBlocks(), func(block netip.Prefix) bool { return block.Contains(network.Subnet.Addr()) })
	}
	for _, network := range used[1:] {
		if blockOf(network) != blockOf(used[0]) {
			report.Add("subnet-of-platform", finding.Error, finding.OfNetwork(network, "subnet"),
				"network %s has the subnet %v, which the platform doesn't put beside %v in one network", network.Name,
				network.Subnet, used[0].Subnet).
				Remedy = "choose subnets from one of 10.0.0.0/8, 172.16.0.0/12 and 192.168.0.0/16"
		}
	}
}
