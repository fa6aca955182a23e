// Package arm renders a fleet as an Azure Resource Manager template. Resource
// types and properties are those of the template reference
// (learn.microsoft.com, "Define resources with Bicep, ARM templates").
package arm

import (
	"fmt"
	"slices"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// Target renders one template a fleet.
var Target = render.Target{
	Name:      "arm",
	Summary:   "one template for Azure Resource Manager",
	Writes:    []string{"FLEET.arm.json", "FLEET.arm.parameters.json"},
	Fates:     fates(),
	Overrides: kind.Overrides,
	Needs:     needs,
	Fleet:     func(job *render.Job) ([]render.File, error) { return newTemplate(job).render() },
	Steps: func(job *render.Job, _ []*fleet.Machine) []render.Step {
		f := job.Fleet
		region := kind.Place(f, nil, "region")
		parameters := ""
		for _, m := range job.Machines() {
			if kind.HoldsSecret(f, m) {
				parameters = " --parameters @" + f.Name + valuesFile
			}
		}
		return []render.Step{
			{About: "make a group for the fleet", Command: fmt.Sprintf("az group create --name %s --location %s", f.Name, region)},
			{About: "deploy the template; it asks for the parameters that are secret", Command: fmt.Sprintf("az deployment group create --resource-group %s --template-file %s.arm.json%s", f.Name, f.Name, parameters),
				Request: fmt.Sprintf("PUT https://management.azure.com/subscriptions/$SUBSCRIPTION/resourcegroups/%[1]s/providers/Microsoft.Resources/deployments/%[1]s?api-version=2022-09-01\nAuthorization: Bearer $TOKEN\nContent-Type: application/json\n\n{\"properties\": {\"mode\": \"Incremental\", \"template\": the content of %[1]s.arm.json}}", f.Name)},
		}
	},
}

var kind = cloud.New("arm", cloudinit.Platform{
	// The platform's agent links data disks by their place (azure-vm-utils).
	DiskDevice: func(disk *fleet.Disk) string { return "/dev/stavren/" + disk.Name },
	FindDisk: func(m *fleet.Machine, disk *fleet.Disk) string {
		return fmt.Sprintf("readlink -f /dev/disk/azure/scsi1/lun%d", place(m, disk))
	},
},
	cloud.Place{Key: "region", What: "the region that machines run in"},
)

// place counts data disks from 0, behind the root disk: the platform's logical unit.
func place(m *fleet.Machine, disk *fleet.Disk) int { return slices.Index(m.Disks, disk) - 1 }

func fates() []render.Fate {
	return render.Merge(cloud.Fates(),
		render.Carry("network.subnet", "machine.interruptible", "firmware.secure_boot", "firmware.tpm", "disk.speed", "nic.primary"),
		render.Adapt("one virtual network with a subnet for each, or the one that platforms names", "network.mode"),
		render.Adapt("sets that hold for a machine together become one security group, shared with machines of the same sets", "machine.firewall"),
		render.Adapt("the disk is detached and kept when the machine goes", "disk.keep"),
		render.Adapt("a user-assigned identity", "identity.account"),
		render.Adapt("secure boot and a TPM make it a machine of the kind TrustedLaunch, which starts by UEFI", "firmware.kind"),
		render.LeaveOut("the identity's roles are given apart", "identity.scopes"),
		render.LeaveOut("a machine that stops itself stays, and is paid for until it is deallocated", "machine.when_stopped"),
	)
}

// needs adds what the platform asks of the one account that it makes itself.
func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	findings := kind.Needs(f, m)
	user, _ := cloud.AdminKey(f, m)
	if user == nil && catalog.Of(f, m).Family.Name != catalog.Windows {
		findings = append(findings, finding.Finding{
			Rule: "no-admin-user", Severity: finding.Error, Place: m.PlaceOf("users"), Path: "machines." + m.Name + ".users",
			Message: fmt.Sprintf("machine %s has no user with a key, and the platform asks for one to make itself", m.Name),
			Remedy:  "give a user a key, under users",
		})
	}
	return findings
}
