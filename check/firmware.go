package check

import (
	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

func firmwareRules() []rule {
	return []rule{
		ofMachine("firmware-needed", finding.Error, firmwareNeeded),
		ofMachine("secure-boot-without-uefi", finding.Error, secureBootWithoutUEFI),
		ofMachine("secure-boot-unsigned", finding.Error, secureBootUnsigned),
	}
}

func firmwareNeeded(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	system, ok := systemOf(f, m)
	if !ok || (!system.UEFI || m.Firmware.Kind == fleet.UEFI) && (!system.TPM || m.Firmware.TPM) {
		return
	}
	r.report(finding.OfFirmware(m, "kind"), "%s on machine %s needs UEFI and a TPM", system.Title, m.Name).
		remedy("add firmware: {kind: uefi, tpm: true}")
}

func secureBootWithoutUEFI(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	if m.Firmware.SecureBoot && m.Firmware.Kind != fleet.UEFI {
		r.report(finding.OfFirmware(m, "secure_boot"), "machine %s asks for secure boot without UEFI", m.Name).
			remedy("add kind: uefi")
	}
}

// isUnsigned reports whether no maker in a family signs a boot loader that the
// firmware of common hypervisors trusts.
func isUnsigned(family string) bool {
	return family == catalog.Alpine || family == catalog.Arch || family == catalog.FreeBSD
}

func secureBootUnsigned(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	system, ok := systemOf(f, m)
	if ok && m.Firmware.SecureBoot && m.Firmware.Kind == fleet.UEFI && isUnsigned(system.Family.Name) {
		r.report(finding.OfFirmware(m, "secure_boot"), "machine %s asks for secure boot, but %s is not signed", m.Name,
			system.Title).
			remedy("remove secure_boot")
	}
}
