// Package arm renders a fleet as an Azure Resource Manager template. Resource
// types and properties are those of the template reference
// (learn.microsoft.com, "Define resources with Bicep, ARM templates").
package arm

import (
	"fmt"

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
	parameters := ""
	for _, m := range job.Machines() {
		if platform.HoldsSecret(f, m) {
			parameters = " --parameters @" + f.Name + valuesFile
		}
	}
	return []render.Step{
		{
			About: "create a group for the fleet",
			Command: fmt.Sprintf("az group create --name %s --location %s", f.Name,
				platform.ValueOrPlaceholder(f, nil, "region")),
		},
		{
			About: "deploy the template; it asks for the parameters that are secret",
			Command: fmt.Sprintf("az deployment group create --resource-group %s --template-file %s.arm.json%s",
				f.Name, f.Name, parameters),
			Request: fmt.Sprintf("PUT https://management.azure.com/subscriptions/$SUBSCRIPTION/resourcegroups/%[1]s"+
				"/providers/Microsoft.Resources/deployments/%[1]s?api-version=2022-09-01\n"+
				"Authorization: Bearer $TOKEN\nContent-Type: application/json\n\n"+
				"{\"properties\": {\"mode\": \"Incremental\", \"template\": the content of %[1]s.arm.json}}", f.Name),
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
		render.Adapt("a user-assigned identity", "identity.account"),
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
	return report.Findings
}
