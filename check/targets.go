package check

import (
	"strings"

	"stavren.example/stavren/finding"
)

// TargetRules returns what targets find before rendering, with `check --for` and
// with `render`. They are documented here beside the others; the targets report
// them. Their examples name the target in a comment on their first line.
func TargetRules() []finding.Rule {
	rules := append([]finding.Rule(nil), targetRules...)
	for i := range rules {
		rules[i].Theme = targetTheme
	}
	return rules
}

// targetTheme is the theme of what targets report. For a platform that a
// definition only speaks of, even what cannot work there can be accepted: its
// machine may never go there.
const targetTheme = "targets"

// forTarget is an example that says which target finds it.
func forTarget(target, machines string) string { return "# for " + target + "\n" + example(machines) }

// swapped is an example with one of its lines in other words.
func swapped(example, old, new string) string { return strings.Replace(example, old, new, 1) }

const (
	oneMachine = "  almanac: {image: bookworm}\n"
	heatSizes  = "platforms:\n  heat: {network: quay-net, sizes: {small: {cpus: 1, memory: 1GiB}}}\n"
	bookworm   = "{os: debian-12, file: images/debian-12.qcow2}"
)

var targetRules = []finding.Rule{
	{
		Name: "image-without-file", Severity: finding.Error,
		Why:   "A hypervisor boots a file, and the image names none.",
		Wrong: swapped(forTarget("qemu", oneMachine), bookworm, "{os: debian-12}"),
		Right: forTarget("qemu", oneMachine),
	},
	{
		Name: "architecture-of-target", Severity: finding.Error,
		Why:   "The image is for processors that the target's hosts do not have.",
		Wrong: swapped(forTarget("ovf", oneMachine), bookworm, "{os: debian-12, file: images/debian-12.qcow2, arch: arm64}"),
		Right: forTarget("ovf", oneMachine),
	},
	{
		Name: "port-without-nat", Severity: finding.Error,
		Why:   "Ports are forwarded through a nat network, and the machine is on none.",
		Wrong: swapped(forTarget("qemu", "  almanac: {image: bookworm, nics: {quay: {address: 10.44.7.20}}}\n"), "mode: nat", "mode: isolated"),
		Right: forTarget("qemu", "  almanac: {image: bookworm, nics: {quay: {address: 10.44.7.20}}}\n"),
	},
	{
		Name: "port-without-address", Severity: finding.Error,
		Why:   "A redirect rule of bhyve's host names the machine's address, and nothing there says which it has.",
		Wrong: swapped(forTarget("bhyve", oneMachine), "mode: nat", "mode: bridged"),
		Right: forTarget("bhyve", oneMachine),
	},
	{
		Name: "vnc-port-too-low", Severity: finding.Error,
		Why:   "QEMU numbers VNC's displays from port 5900 on and has none below.",
		Wrong: forTarget("qemu", "  almanac: {image: bookworm, console: {kind: graphical, port: 5000}}\n"),
		Right: forTarget("qemu", "  almanac: {image: bookworm, console: {kind: graphical, port: 5901}}\n"),
	},
	{
		Name: "machines-apart", Severity: finding.Advice,
		Why:   "Machines on one nat network do not reach each other, since the hypervisor gives each that forwards ports a network of its own: that needs no rights on the host.",
		Wrong: forTarget("qemu", "  almanac: {image: bookworm, nics: {quay: {address: 10.44.7.20}}}\n  store: {image: bookworm, nics: {quay: {address: 10.44.7.21}}}\n"),
		Right: forTarget("qemu", oneMachine),
	},
	{
		Name: "text-not-in-xml", Severity: finding.Error,
		Why:   "The target is XML, which cannot hold control characters in any way.",
		Wrong: forTarget("libvirt", "  almanac: {image: bookworm, about: \"tides\\x01\"}\n"),
		Right: forTarget("libvirt", "  almanac: {image: bookworm, about: tides}\n"),
	},
	{
		Name: "too-many-disks", Severity: finding.Error,
		Why:   "The target has room for fewer disks than the machine has.",
		Wrong: forTarget("ovf", "  almanac:\n    image: bookworm\n    disks: {"+manyDisks(16)+"}\n"),
		Right: forTarget("ovf", "  almanac:\n    image: bookworm\n    disks: {"+manyDisks(14)+"}\n"),
	},
	{
		Name: "too-many-devices", Severity: finding.Error,
		Why:   "bhyve's bus has 32 slots, and the machine's disks and interfaces take more.",
		Wrong: forTarget("bhyve", "  almanac:\n    image: bookworm\n    disks: {"+manyDisks(26)+"}\n"),
		Right: forTarget("bhyve", "  almanac:\n    image: bookworm\n    disks: {"+manyDisks(20)+"}\n"),
	},
	{
		Name: "no-tpm", Severity: finding.Warning,
		Why:   "The target cannot give the machine the trusted platform module that it asks for.",
		Wrong: forTarget("bhyve", "  almanac: {image: bookworm, firmware: {kind: uefi, tpm: true}}\n"),
		Right: forTarget("qemu", "  almanac: {image: bookworm, firmware: {kind: uefi, tpm: true}}\n"),
	},
	{
		Name: "placeholder-left", Severity: finding.Warning,
		Why:   "The platform needs a value that only the account's owner knows, and the definition does not say it. The output has a word that begins with REPLACE- in its place.",
		Wrong: forTarget("gce", oneMachine),
		Right: swapped(forTarget("gce", oneMachine+"platforms:\n  gce: {zone: europe-north1-a, settings: {project: tide-office}}\n"), bookworm, "{os: debian-12, ids: {gce: projects/debian-cloud/global/images/family/debian-12}}"),
	},
	{
		Name: "no-size-fits", Severity: finding.Error,
		Why:   "No size that the platform sells, or that the definition lists for it, has as much as the machine asks for.",
		Wrong: forTarget("heat", "  almanac: {image: bookworm, resources: {cpus: 8, memory: 2GiB}}\n"+heatSizes),
		Right: swapped(forTarget("heat", oneMachine+heatSizes), bookworm, "{os: debian-12, ids: {heat: Debian 12}}"),
	},
	{
		Name: "unknown-size", Severity: finding.Error,
		Why:   "A size is named that the platform does not have.",
		Wrong: forTarget("heat", "  almanac: {image: bookworm, platforms: {heat: {size: smal}}}\n"+heatSizes),
		Right: swapped(forTarget("heat", "  almanac: {image: bookworm, platforms: {heat: {size: small}}}\n"+heatSizes), bookworm, "{os: debian-12, ids: {heat: Debian 12}}"),
	},
	{
		Name: "size-too-small", Severity: finding.Error,
		Why:   "The size that is named has less than the machine asks for.",
		Wrong: forTarget("heat", "  almanac: {image: bookworm, resources: {cpus: 2, memory: 1GiB}, platforms: {heat: {size: small}}}\n"+heatSizes),
		Right: swapped(forTarget("heat", "  almanac: {image: bookworm, platforms: {heat: {size: small}}}\n"+heatSizes), bookworm, "{os: debian-12, ids: {heat: Debian 12}}"),
	},
	{
		Name: "user-data-too-large", Severity: finding.Error,
		Why:   "First-boot data travels in a field of the platform that has a limit; packed or not, it does not fit.",
		Wrong: forTarget("droplet", "  almanac: {image: bookworm, first_boot: {files: {/etc/tides: {text: \""+strings.Repeat("high water ", 6500)+"\"}}}}\n"),
		Right: swapped(forTarget("droplet", oneMachine+"platforms:\n  droplet: {region: ams3}\n"), bookworm, "{os: debian-12, ids: {droplet: debian-12-x64}}"),
	},
	{
		Name: "name-shortened", Severity: finding.Advice,
		Why:   "The platform takes shorter names than are made here of a machine's and its disk's, or of the fleet's and its firewall's. It gets as much as fits, and six digits that tell it from others.",
		Wrong: forTarget("gce", "  "+strings.Repeat("almanac-", 4)+"tides: {image: bookworm, disks: {"+strings.Repeat("readings-", 3)+"all: {size: 10GiB}}}\n"),
		Right: swapped(forTarget("gce", "  almanac: {image: bookworm, disks: {readings: {size: 10GiB}}}\nplatforms:\n  gce: {zone: europe-north1-a, settings: {project: tide-office}}\n"), bookworm, "{os: debian-12, ids: {gce: projects/debian-cloud/global/images/family/debian-12}}"),
	},
	{
		Name: "name-refused", Severity: finding.Error,
		Why:   "The platform does not take a machine's name, such as one that begins with a digit.",
		Wrong: forTarget("gce", "  1-almanac: {image: bookworm}\n"),
		Right: swapped(forTarget("gce", oneMachine+"platforms:\n  gce: {zone: europe-north1-a, settings: {project: tide-office}}\n"), bookworm, "{os: debian-12, ids: {gce: projects/debian-cloud/global/images/family/debian-12}}"),
	},
	{
		Name: "label-refused", Severity: finding.Error,
		Why:   "A label is longer than the platform takes, has characters that it refuses, or is one too many.",
		Wrong: forTarget("gce", "  almanac: {image: bookworm, labels: {office: Tide & Gauge}}\n"),
		Right: swapped(forTarget("gce", "  almanac: {image: bookworm, labels: {office: Tides}}\nplatforms:\n  gce: {zone: europe-north1-a, settings: {project: tide-office}}\n"), bookworm, "{os: debian-12, ids: {gce: projects/debian-cloud/global/images/family/debian-12}}"),
	},
	{
		Name: "disk-rounded", Severity: finding.Advice,
		Why:   "The platform sells disks from a size on and in steps, so the machine gets and pays a larger one.",
		Wrong: forTarget("oci", oneMachine),
		Right: swapped(forTarget("heat", oneMachine+heatSizes), bookworm, "{os: debian-12, ids: {heat: Debian 12}}"),
	},
	{
		Name: "login-reserved", Severity: finding.Error,
		Why:   "The platform refuses to make an account of that name.",
		Wrong: forTarget("arm", "  almanac: {image: bookworm, users: {david: {keys: [ops]}}}\n"),
		Right: swapped(forTarget("arm", "  almanac: {image: bookworm, users: {eyd: {keys: [ops]}}}\nplatforms:\n  arm: {region: northeurope}\n"), bookworm, "{os: debian-12, ids: {arm: \"Debian:debian-12:12-gen2:latest\"}}"),
	},
	{
		Name: "password-login-on-cloud", Severity: finding.Warning,
		Why:   "A machine with a public address takes passwords over SSH. The first guesses arrive within minutes.",
		Wrong: forTarget("gce", "  almanac: {image: bookworm, public_address: true, ssh: {password_login: true}}\n"),
		Right: swapped(forTarget("gce", "  almanac: {image: bookworm, public_address: true}\nplatforms:\n  gce: {zone: europe-north1-a, settings: {project: tide-office}}\n"), bookworm, "{os: debian-12, ids: {gce: projects/debian-cloud/global/images/family/debian-12}}"),
	},
	{
		Name: "no-admin-user", Severity: finding.Error,
		Why:   "The platform makes one account itself and asks for its name and key.",
		Wrong: forTarget("arm", "  almanac: {image: bookworm, users: {mira: {keys: none}}}\n"),
		Right: swapped(forTarget("arm", oneMachine+"platforms:\n  arm: {region: northeurope}\n"), bookworm, "{os: debian-12, ids: {arm: \"Debian:debian-12:12-gen2:latest\"}}"),
	},
	{
		Name: "template-too-large", Severity: finding.Error,
		Why:   "A platform takes so many resources in one template and no more. It refuses the whole of it.",
		Wrong: swapped(forTarget("cloudformation", "  almanac: {image: bookworm, copies: 200}\n"), "10.44.7.0/24", "10.44.0.0/16"),
		Right: swapped(swapped(forTarget("cloudformation", "  almanac: {image: bookworm, copies: 60}\nplatforms:\n  cloudformation: {region: eu-north-1}\n"), "10.44.7.0/24", "10.44.0.0/16"), bookworm, "{os: debian-12, ids: {cloudformation: ami-0123456789abcdef0}}"),
	},
	{
		Name: "subnet-of-platform", Severity: finding.Error,
		Why:   "The platform makes subnets between /16 and /28 only.",
		Wrong: swapped(forTarget("cloudformation", oneMachine), "10.44.7.0/24", "10.44.7.0/29"),
		Right: swapped(forTarget("cloudformation", oneMachine+"platforms:\n  cloudformation: {region: eu-north-1}\n"), bookworm, "{os: debian-12, ids: {cloudformation: ami-0123456789abcdef0}}"),
	},
	{
		Name: "address-of-platform", Severity: finding.Error,
		Why:   "The platform keeps the first four addresses of each subnet for itself.",
		Wrong: forTarget("cloudformation", "  almanac: {image: bookworm, nics: {quay: {address: 10.44.7.3}}}\n"),
		Right: swapped(forTarget("cloudformation", "  almanac: {image: bookworm, nics: {quay: {address: 10.44.7.4}}}\nplatforms:\n  cloudformation: {region: eu-north-1}\n"), bookworm, "{os: debian-12, ids: {cloudformation: ami-0123456789abcdef0}}"),
	},
}

func manyDisks(n int) string {
	var disks []string
	for i := range n {
		disks = append(disks, "d"+string(rune('a'+i))+": {size: 1GiB}")
	}
	return strings.Join(disks, ", ")
}
