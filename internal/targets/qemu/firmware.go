package qemu

import (
	"strings"

	"stavren.example/stavren/fleet"
)

// processor has QEMU's name for an architecture, and the places where distributions
// keep UEFI firmware for it: pairs of code and variables separated by a colon.
type processor struct {
	program, linux, darwin, machine string
	firmware, signed                []string
}

var processors = map[string]processor{
	"amd64": {"qemu-system-x86_64", "x86_64", "x86_64", "q35", []string{
		"/usr/share/OVMF/OVMF_CODE_4M.fd:/usr/share/OVMF/OVMF_VARS_4M.fd",
		"/usr/share/OVMF/OVMF_CODE.fd:/usr/share/OVMF/OVMF_VARS.fd",
		"/usr/share/edk2/ovmf/OVMF_CODE.fd:/usr/share/edk2/ovmf/OVMF_VARS.fd",
		"/usr/share/edk2/x64/OVMF_CODE.4m.fd:/usr/share/edk2/x64/OVMF_VARS.4m.fd",
		"/usr/share/qemu/ovmf-x86_64-code.bin:/usr/share/qemu/ovmf-x86_64-vars.bin",
		"/opt/homebrew/share/qemu/edk2-x86_64-code.fd:/opt/homebrew/share/qemu/edk2-i386-vars.fd",
		"/usr/local/share/qemu/edk2-x86_64-code.fd:/usr/local/share/qemu/edk2-i386-vars.fd",
	}, []string{
		"/usr/share/OVMF/OVMF_CODE_4M.secboot.fd:/usr/share/OVMF/OVMF_VARS_4M.ms.fd",
		"/usr/share/OVMF/OVMF_CODE_4M.ms.fd:/usr/share/OVMF/OVMF_VARS_4M.ms.fd",
		"/usr/share/edk2/ovmf/OVMF_CODE.secboot.fd:/usr/share/edk2/ovmf/OVMF_VARS.secboot.fd",
		"/usr/share/edk2/x64/OVMF_CODE.secboot.4m.fd:/usr/share/edk2/x64/OVMF_VARS.4m.fd",
		"/usr/share/qemu/ovmf-x86_64-smm-ms-code.bin:/usr/share/qemu/ovmf-x86_64-smm-ms-vars.bin",
	}},
	"arm64": {"qemu-system-aarch64", "aarch64", "arm64", "virt", []string{
		"/usr/share/AAVMF/AAVMF_CODE.fd:/usr/share/AAVMF/AAVMF_VARS.fd",
		"/usr/share/edk2/aarch64/QEMU_EFI-pflash.raw:/usr/share/edk2/aarch64/vars-template-pflash.raw",
		"/usr/share/qemu/aavmf-aarch64-code.bin:/usr/share/qemu/aavmf-aarch64-vars.bin",
		"/opt/homebrew/share/qemu/edk2-aarch64-code.fd:/opt/homebrew/share/qemu/edk2-arm-vars.fd",
	}, []string{
		"/usr/share/AAVMF/AAVMF_CODE.ms.fd:/usr/share/AAVMF/AAVMF_VARS.ms.fd",
	}},
}

// machine chooses the board and the firmware. arm64 has no BIOS.
func (r *run) machine(m *fleet.Machine, p processor) {
	board := []string{p.machine, "accel=$accelerator"}
	if p.machine == "virt" {
		board = append(board, "gic-version=max") // version 2 has eight processors at most
	}
	uefi := m.Firmware.Kind == fleet.UEFI || p.machine == "virt"
	if uefi {
		r.Firmware = p.firmware
		board = append(board, "pflash0=code", "pflash1=variables")
	}
	if m.Firmware.SecureBoot {
		r.Firmware = p.signed
		if p.machine == "q35" {
			// Only code in system management mode may write the variables.
			board = append(board, "smm=on")
		}
	}
	if len(m.Shares) > 0 {
		board = append(board, "memory-backend=memory")
		r.option("-object", "memory-backend-memfd,id=memory,share=on,size="+memory(m.Resources.Memory))
	}
	r.expanded("-machine", strings.Join(board, ","))
	if uefi {
		r.expanded("-blockdev", "driver=raw,node-name=code,read-only=on,file.driver=file,file.filename=$code")
		r.option("-blockdev", "driver=raw,node-name=variables,file.driver=file,file.filename=variables.fd")
	}
	if m.Firmware.SecureBoot && p.machine == "q35" {
		r.option("-global", "driver=cfi.pflash01,property=secure,value=on")
	}
	if m.Firmware.TPM {
		device := "tpm-crb"
		if p.machine == "virt" {
			device = "tpm-tis-device"
		}
		r.option("-chardev", "socket,id=tpm,path=tpm/control")
		r.option("-tpmdev", "emulator,id=tpm0,chardev=tpm")
		r.option("-device", device+",tpmdev=tpm0")
	}
}
