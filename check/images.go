package check

import (
	"fmt"
	"strings"
	"time"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

// soon is how long before its end a system's support is spoken of.
const soon = 90 * 24 * time.Hour

var systemEnded = Rule{
	Rule: finding.Rule{
		Name: "system-out-of-support", Severity: finding.Warning, Theme: "images",
		Why:   "The makers of the system no longer mend its security. Its package sources may be gone too, so that the first boot fails.",
		Wrong: strings.Replace(example("  almanac: {image: bookworm}\n"), "debian-12,", "ubuntu-20.04,", 1),
		Right: example("  almanac: {image: bookworm}\n"),
	},
	load: func(p *pass) {
		forEndOfLife(p, func(image *fleet.Image, system catalog.System) {
			if p.options.Today.After(system.EndOfLife) {
				p.report(image.PlaceOf("os"), "images."+image.Name+".os",
					fmt.Sprintf("image %s holds %s, whose support ended on %s", image.Name, system.Title, system.EndOfLife.Format(time.DateOnly)),
					"use a version in support; the list of systems has the dates")
			}
		})
	},
}

var systemEnding = Rule{
	Rule: finding.Rule{
		Name: "system-support-ends-soon", Severity: finding.Advice, Theme: "images",
		Why:   "The support of the system ends within 90 days. A machine made now will have to be made again before it is old.",
		Wrong: strings.Replace(example("  almanac: {image: bookworm}\n"), "debian-12,", "fedora-43,", 1),
		Right: example("  almanac: {image: bookworm}\n"),
	},
	load: func(p *pass) {
		forEndOfLife(p, func(image *fleet.Image, system catalog.System) {
			if left := system.EndOfLife.Sub(p.options.Today); left >= 0 && left <= soon {
				p.report(image.PlaceOf("os"), "images."+image.Name+".os",
					fmt.Sprintf("image %s holds %s, whose support ends on %s", image.Name, system.Title, system.EndOfLife.Format(time.DateOnly)),
					"plan for the next version")
			}
		})
	},
}

// forEndOfLife visits the images that machines boot and whose systems end, if
// today is known.
func forEndOfLife(p *pass, visit func(*fleet.Image, catalog.System)) {
	if p.options.Today.IsZero() {
		return
	}
	for f := range p.each() {
		used := p.used(f)
		for _, image := range f.Images {
			if system, known := catalog.Find(f, image.OS); known && !system.EndOfLife.IsZero() && used[use{"images", image.Name}] {
				visit(image, system)
			}
		}
	}
}

var imageWithoutID = Rule{
	Rule: finding.Rule{
		Name: "image-without-id", Severity: finding.Warning, Theme: "images",
		Why:   "The definition speaks of a platform, but an image that machines boot does not say what that platform calls it.",
		Wrong: example("  almanac: {image: bookworm}\nplatforms:\n  heat: {network: quay-net}\n"),
		Right: strings.Replace(example("  almanac: {image: bookworm}\nplatforms:\n  heat: {network: quay-net}\n"), "os: debian-12,", "os: debian-12, ids: {heat: Debian 12},", 1),
	},
	load: func(p *pass) {
		for f := range p.each() {
			used := p.used(f)
			for _, platform := range f.Platforms {
				for _, image := range f.Images {
					if used[use{"images", image.Name}] && !hasPair(image.IDs, platform.Name) {
						p.report(image.PlaceOf("ids"), "images."+image.Name+".ids",
							fmt.Sprintf("image %s does not say what %s calls it", image.Name, platform.Name),
							"add ids: {"+platform.Name+": …}, or accept it if its machines never go there")
					}
				}
			}
		}
	},
}

func hasPair(pairs []fleet.Pair, key string) bool {
	for _, pair := range pairs {
		if pair.Key == key {
			return true
		}
	}
	return false
}

var firmwareNeeded = Rule{
	Rule: finding.Rule{
		Name: "firmware-needed", Severity: finding.Error, Theme: "firmware",
		Why:   "The system does not install or start without UEFI or a trusted platform module, and the machine has none.",
		Wrong: strings.Replace(example("  almanac: {image: bookworm, resources: {memory: 4GiB}, disks: {root: {size: 64GiB, bus: sata}}}\n"), "debian-12,", "windows-11,", 1),
		Right: strings.Replace(example("  almanac: {image: bookworm, resources: {memory: 4GiB}, disks: {root: {size: 64GiB, bus: sata}}, firmware: {kind: uefi, tpm: true}}\n"), "debian-12,", "windows-11,", 1),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		system, known := systemOf(f, m)
		if !known || (!system.UEFI || m.Firmware.Kind == fleet.UEFI) && (!system.TPM || m.Firmware.TPM) {
			return
		}
		p.report(placeOf(m, &m.Firmware.Origins, "kind"), machinePath(m, "firmware"),
			fmt.Sprintf("%s on machine %s needs UEFI and a TPM", system.Title, m.Name), "add firmware: {kind: uefi, tpm: true}")
	},
}

var secureBootWithoutUEFI = Rule{
	Rule: finding.Rule{
		Name: "secure-boot-without-uefi", Severity: finding.Error, Theme: "firmware",
		Why:   "Secure boot is a part of UEFI. A BIOS starts whatever it finds.",
		Wrong: example("  almanac: {image: bookworm, firmware: {secure_boot: true}}\n"),
		Right: example("  almanac: {image: bookworm, firmware: {kind: uefi, secure_boot: true}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		if m.Firmware.SecureBoot && m.Firmware.Kind != fleet.UEFI {
			p.report(m.Firmware.PlaceOf("secure_boot"), machinePath(m, "firmware", "secure_boot"),
				fmt.Sprintf("machine %s asks for secure boot without UEFI", m.Name), "add kind: uefi")
		}
	},
}

// unsigned are the families whose makers sign no boot loader that the firmware
// of common hypervisors trusts.
var unsigned = map[string]bool{"Alpine": true, "Arch": true, "FreeBSD": true}

var secureBootUnsigned = Rule{
	Rule: finding.Rule{
		Name: "secure-boot-unsigned", Severity: finding.Error, Theme: "firmware",
		Why:   "The makers of the system do not sign its boot loader, so firmware with secure boot refuses to start it.",
		Wrong: strings.Replace(example("  almanac: {image: bookworm, firmware: {kind: uefi, secure_boot: true}}\n"), "debian-12,", "alpine-3.23,", 1),
		Right: strings.Replace(example("  almanac: {image: bookworm, firmware: {kind: uefi}}\n"), "debian-12,", "alpine-3.23,", 1),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		if system, known := systemOf(f, m); known && m.Firmware.SecureBoot && m.Firmware.Kind == fleet.UEFI && unsigned[system.Family.Name] {
			p.report(m.Firmware.PlaceOf("secure_boot"), machinePath(m, "firmware", "secure_boot"),
				fmt.Sprintf("machine %s asks for secure boot, and %s is not signed", m.Name, system.Title), "remove secure_boot")
		}
	},
}

var consoleOpen = Rule{
	Rule: finding.Rule{
		Name: "console-open", Severity: finding.Warning, Theme: "console",
		Why:   "Whoever reaches the graphical console sits at the machine's keyboard. It listens to the whole network and asks for no password.",
		Wrong: example("  almanac: {image: bookworm, console: {kind: graphical, listen: 0.0.0.0}}\n"),
		Right: example("  almanac: {image: bookworm, console: {kind: graphical}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		if m.Console.Kind == fleet.Graphical && !m.Console.Listen.IsLoopback() && m.Console.Password == "" {
			p.report(m.Console.PlaceOf("listen"), machinePath(m, "console", "listen"),
				fmt.Sprintf("the console of machine %s listens on %v and asks for no password", m.Name, m.Console.Listen),
				"remove listen and reach it over SSH, or add password: NAME of a secret")
		}
	},
}

var nameTooLong = Rule{
	Rule: finding.Rule{
		Name: "name-too-long-for-windows", Severity: finding.Error, Theme: "names",
		Why:   "Windows takes computer names of at most 15 characters (NetBIOS) and cuts off the rest, so that two machines may end up with one name.",
		Wrong: strings.Replace(example("  tide-office-desk: {image: bookworm, disks: {root: {size: 64GiB, bus: sata}}, resources: {memory: 4GiB}}\n"), "debian-12,", "windows-server-2025,", 1),
		Right: strings.Replace(example("  tide-desk: {image: bookworm, disks: {root: {size: 64GiB, bus: sata}}, resources: {memory: 4GiB}}\n"), "debian-12,", "windows-server-2025,", 1),
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		if isWindows(f, m) && len(m.HostName) > 15 {
			p.report(placeOf(m, &m.Origins, "host_name"), machinePath(m, "host_name"),
				fmt.Sprintf("the name %s has %d characters, and Windows takes 15", m.HostName, len(m.HostName)), "add a shorter host_name")
		}
	},
}
