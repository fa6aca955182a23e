package cloudformation

import (
	"fmt"
	"net/netip"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloud"
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
	if platform.Value(f, m, "network") == "" {
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
	case isReserved(network, nic.Address):
		report.Add("address-of-platform", finding.Error, finding.OfNIC(m, nic, "address"),
			"machine %s has the address %v, but the platform reserves the first four of a subnet", m.Name, nic.Address).
			Remedy = "choose an address from the fifth of the subnet on"
	}
}

// isReserved reports whether the platform reserves an address of a subnet.
func isReserved(network *fleet.Network, addr netip.Addr) bool {
	reserved := network.Subnet.Masked().Addr()
	for range reservedAddresses {
		if addr == reserved {
			return true
		}
		reserved = reserved.Next()
	}
	return false
}
