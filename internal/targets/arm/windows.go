package arm

import (
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/ordered"
)

// extensionKind is what the platform's agent does in a machine.
const extensionKind = "Microsoft.Compute/virtualMachines/extensions"

// runCustomData runs what the platform left in a machine with Windows, as a script ("Custom
// data and cloud-init on Azure Virtual Machines").
const runCustomData = `powershell.exe -NoProfile -ExecutionPolicy Bypass -Command "` +
	`Copy-Item C:\AzureData\CustomData.bin C:\AzureData\first-boot.ps1; & C:\AzureData\first-boot.ps1"`

// firstBoot adds the extension that runs the first-boot data of a machine with Windows,
// which nothing there reads by itself.
func (t *template) firstBoot(m *fleet.Machine, name string) {
	if catalog.Of(t.job.Fleet, m).Family.Class() != catalog.ClassWindows {
		return
	}
	t.add(extensionKind, machineVersion, name+"/first-boot", ordered.List{id(machineKind, name)}, "properties",
		ordered.Of("publisher", "Microsoft.Compute", "type", "CustomScriptExtension", "typeHandlerVersion", "1.10",
			"autoUpgradeMinorVersion", true, "settings", ordered.Of("commandToExecute", runCustomData)))
}
