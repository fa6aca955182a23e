// Package arm renders a fleet as an Azure Resource Manager template. Resource
// types and properties are those of the template reference
// (learn.microsoft.com, "Define resources with Bicep, ARM templates").
package arm

import (
	"fmt"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/render"
)

// Target renders one template per fleet.
var Target = platform.NewTarget(render.Target{
	Summary: "one template for Azure Resource Manager",
	Writes:  []string{"FLEET.arm.json", "FLEET.arm.parameters.json"},
	Fates:   fates,
	Needs:   needs,
	Fleet:   func(job *render.Job) ([]render.File, error) { return newTemplate(job).render() },
	Steps:   steps,
}, readBack)

func steps(job *render.Job, _ []*fleet.Machine) []render.Step {
	f := job.Fleet
	parameters, values := "", ""
	for _, m := range job.Machines() {
		if platform.HoldsSecret(f, m) {
			parameters = " --parameters @" + f.Name + valuesFile
			values = ", \"parameters\": the parameters in " + f.Name + valuesFile
		}
	}
	return []render.Step{
		{
			About: "create a group for the fleet",
			Command: fmt.Sprintf("az group create --name %s --location %s", f.Deployment(),
				platform.ValueOrPlaceholder(f, nil, "region")),
		},
		{
			About: "deploy the template; it asks for the parameters that are secret",
			Command: fmt.Sprintf("az deployment group create --resource-group %s --template-file %s.arm.json%s",
				f.Deployment(), f.Name, parameters),
			Request: fmt.Sprintf("PUT https://management.azure.com/subscriptions/$SUBSCRIPTION/resourcegroups/%[3]s"+
				"/providers/Microsoft.Resources/deployments/%[3]s?api-version=2022-09-01\n"+
				"Authorization: Bearer $TOKEN\nContent-Type: application/json\n\n"+
				"{\"properties\": {\"mode\": \"Incremental\", \"template\": the content of %[1]s.arm.json%[2]s}}", f.Name, values,
				f.Deployment()),
		},
	}
}

func fates() []render.Fate {
	return render.Merge(cloud.Fates(),
		render.LeaveOut("this platform has no settings", "platform.settings"),
		render.LeaveOut("a template is deployed to one region, which platforms names", "machine.region"),
		render.Carry("network.subnet", "machine.interruptible", "firmware.secure_boot", "firmware.tpm", "disk.speed",
			"nic.primary"),
		render.Adapt("one virtual network with a subnet for each, or the one that platforms names", "network.mode"),
		render.Adapt("the sets that apply to a machine become one security group, shared with machines of the same sets",
			"machine.firewall"),
		render.Adapt("the disk is detached and kept when the machine is deleted", "disk.keep"),
		render.Adapt("a user-assigned identity: the one with that id, or a new one of that name", "identity.account"),
		render.Adapt("with secure boot or a TPM, the machine is of the kind TrustedLaunch, which boots by UEFI",
			"firmware.kind"),
		render.LeaveOut("the identity's roles are assigned separately", "identity.scopes"),
		render.LeaveOut("a machine that stops itself stays, and is paid for until it is deallocated",
			"machine.when_stopped"),
	)
}

// needs adds what the platform needs for the one account that it creates itself.
func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	report := finding.Report{Machine: m.Name, Findings: platform.Needs(f, m)}
	user, _ := cloud.AdminKey(f, m)
	if user == nil && catalog.Of(f, m).Family.Class() != catalog.ClassWindows {
		report.Add("no-admin-user", finding.Error, finding.OfMachine(m, "users"),
			"machine %s has no user with a key, and the platform needs one to create an account", m.Name).
			Remedy = "add a key to a user, under users"
	}
	for _, nic := range m.NICs {
		if network := f.Network(nic.Network); network != nil && isOwn(f, m) {
			subnet(&report, network, m, nic)
		}
	}
	trustedLaunch(&report, f, m)
	return report.Findings
}

// longestPrefix is that of the smallest subnet; of each, the platform takes the first four
// addresses and the last ("Azure Virtual Network FAQ").
const longestPrefix = 29

// subnet reports a subnet that the platform doesn't create, or an address in it that it
// doesn't assign.
func subnet(report *finding.Report, network *fleet.Network, m *fleet.Machine, nic *fleet.NIC) {
	switch {
	case !network.Subnet.IsValid() || network.Subnet.Bits() > longestPrefix || network.Subnet.Addr().Is6():
		report.Add("subnet-of-platform", finding.Error, finding.OfNetwork(network, "subnet"),
			"network %s has no subnet of IPv4 with a prefix of at most /%d, so the platform can't create it", network.Name,
			longestPrefix).
			Remedy = "write such a subnet, or name one of the platform's under platforms"
	case cloud.Reserves(network.Subnet, nic.Address, reservedAddresses):
		report.Add("address-of-platform", finding.Error, finding.OfNIC(m, nic, "address"),
			"machine %s has the address %v, but the platform reserves the first four of a subnet", m.Name, nic.Address).
			Remedy = "choose an address from the fifth of the subnet on"
	}
}

const reservedAddresses = 4

// trustedLaunch reports secure boot or a TPM on a size that has neither: processors of
// the fifth generation for arm64 ("Trusted Launch for Azure virtual machines").
func trustedLaunch(report *finding.Report, f *fleet.Fleet, m *fleet.Machine) {
	if !m.Firmware.SecureBoot && !m.Firmware.TPM {
		return
	}
	size, _, err := platform.SizeOf(&render.Job{Fleet: f}, m)
	if err == nil && size.Size.Arch == "arm64" && strings.HasSuffix(size.Size.Name, "_v5") {
		report.Add("no-tpm", finding.Warning, finding.OfFirmware(m, fleet.Itself),
			"machine %s asks for secure boot or a TPM, but the size %s has neither", m.Name, size.Size.Name).
			Remedy = "name a size of the sixth generation, or do without"
	}
}
