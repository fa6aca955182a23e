package libvirt

import (
	"fmt"
	"io/fs"
	"strconv"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/xmldoc"
	"stavren.example/stavren/render"
)

// architectureOf returns libvirt's name of an architecture, and its board.
func architectureOf(arch string) (name, board string) {
	switch arch {
	case "amd64":
		return "x86_64", "q35"
	case "arm64":
		return "aarch64", "virt"
	}
	return "", ""
}

// domain renders one machine (formatdomain.html). It leaves out what libvirt fills in
// itself.
func domain(job *render.Job, m *fleet.Machine) (render.File, error) {
	f := job.Fleet
	image := f.Image(m.Image)
	if image == nil {
		return render.File{}, fmt.Errorf("image %q is not defined", m.Image)
	}
	arch, board := architectureOf(image.Arch)
	if arch == "" {
		return render.File{}, fmt.Errorf("architecture %q is not known", image.Arch)
	}
	kind := xmldoc.Text("type", "hvm", "arch", arch, "machine", board)
	system := xmldoc.New("os").Add(kind)
	if m.Firmware.Kind == fleet.UEFI || board == "virt" {
		system = xmldoc.New("os", "firmware", "efi").Add(kind, xmldoc.New("firmware").Add(
			xmldoc.New("feature", "enabled", yesNo(m.Firmware.SecureBoot), "name", "secure-boot"),
			xmldoc.New("feature", "enabled", yesNo(m.Firmware.SecureBoot), "name", "enrolled-keys"),
		))
	}
	features := xmldoc.New("features").Add(xmldoc.New("acpi"))
	if board == "q35" {
		features.Add(xmldoc.New("apic"))
	}
	if m.Firmware.SecureBoot && board == "q35" {
		features.Add(xmldoc.New("smm", "state", "on"))
	}
	devices, secret, err := devices(job, m, catalog.Of(f, m))
	if err != nil {
		return render.File{}, err
	}
	options, err := userNetworkOptions(f, m)
	if err != nil {
		return render.File{}, err
	}
	attributes := []string{"type", "kvm"}
	if options != nil {
		attributes = append(attributes, "xmlns:qemu", "http://libvirt.org/schemas/domain/qemu/1.0")
	}
	root := xmldoc.New("domain", attributes...).Add(
		xmldoc.Text("name", qualified(f, m.Name)),
		xmldoc.Text("uuid", uuid(f.Name, m.Name)),
		description(m.About),
		xmldoc.Text("memory", memory(m.Resources.Memory), "unit", memoryUnit(m.Resources.Memory)),
		memoryBacking(f, m),
		xmldoc.Text("vcpu", strconv.Itoa(m.Resources.CPUs)),
		processorShares(m.Resources.Priority),
		system, features,
		// All that the host has, or all that can be emulated. Desktop Windows uses two
		// sockets at most.
		xmldoc.New("cpu", "mode", "maximum").Add(xmldoc.New("topology", "sockets", "1", "dies", "1", "cores",
			strconv.Itoa(m.Resources.CPUs), "threads", "1")),
		xmldoc.New("clock", "offset", map[fleet.Clock]string{fleet.UTC: "utc", fleet.Local: "localtime"}[m.Clock]),
		xmldoc.Text("on_poweroff", "destroy"), xmldoc.Text("on_reboot", "restart"), xmldoc.Text("on_crash", "destroy"),
		devices, options,
	)
	mode := fs.FileMode(0o644)
	if secret {
		mode = 0o600
	}
	return render.File{Name: m.Name + "/domain.xml", Data: root.Encode(), Mode: mode}, nil
}

func yesNo(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}

func description(about string) *xmldoc.Element {
	if about == "" {
		return nil
	}
	return xmldoc.Text("description", about)
}

func memory(amount fleet.Bytes) string {
	if amount%fleet.KiB == 0 {
		return strconv.FormatInt(int64(amount/fleet.KiB), 10)
	}
	return strconv.FormatInt(int64(amount), 10)
}

func memoryUnit(amount fleet.Bytes) string {
	if amount%fleet.KiB == 0 {
		return "KiB"
	}
	return "b"
}

// memoryBacking provides memory that the helper of shares can access.
func memoryBacking(f *fleet.Fleet, m *fleet.Machine) *xmldoc.Element {
	if len(m.Shares) == 0 || !catalog.Of(f, m).Linux() {
		return nil
	}
	return xmldoc.New("memoryBacking").Add(xmldoc.New("source", "type", "memfd"),
		xmldoc.New("access", "mode", "shared"))
}

// processorShares returns a machine's weight relative to others. The default is 1024.
func processorShares(priority fleet.Priority) *xmldoc.Element {
	shares := map[fleet.Priority]string{fleet.Low: "256", fleet.High: "4096"}[priority]
	if shares == "" {
		return nil
	}
	return xmldoc.New("cputune").Add(xmldoc.Text("shares", shares))
}

// devices renders everything that is attached to the machine, and reports whether it
// includes a secret.
func devices(job *render.Job, m *fleet.Machine, system catalog.System) (list *xmldoc.Element, secret bool, err error) {
	list = xmldoc.New("devices")
	disks(list, job, m)
	for _, nic := range m.NICs {
		if forwards(job.Fleet, m, nic) && !usesPasst(job.Fleet) {
			continue // among QEMU's own options
		}
		element, err := networkInterface(job.Fleet, m, nic)
		if err != nil {
			return nil, false, err
		}
		list.Add(element)
	}
	if system.Linux() {
		for _, share := range m.Shares {
			list.Add(xmldoc.New("filesystem", "type", "mount", "accessmode", "passthrough").Add(
				xmldoc.New("driver", "type", "virtiofs"),
				xmldoc.New("source", "dir", job.AbsolutePath(share.Folder, share.Host)),
				xmldoc.New("target", "dir", share.Name),
			))
		}
	}
	list.Add(
		xmldoc.New("serial", "type", "pty").Add(xmldoc.New("target", "port", "0")),
		xmldoc.New("console", "type", "pty").Add(xmldoc.New("target", "type", "serial", "port", "0")),
	)
	if m.FirstBoot.GuestTools {
		list.Add(xmldoc.New("channel", "type", "unix").Add(xmldoc.New("target", "type", "virtio", "name",
			"org.qemu.guest_agent.0")))
	}
	if m.Firmware.TPM {
		list.Add(xmldoc.New("tpm", "model", tpmModel(job.Fleet, m)).Add(xmldoc.New("backend", "type", "emulator",
			"version", "2.0")))
	}
	if m.Console.Kind == fleet.Graphical {
		secret = m.Console.Password != ""
		if err := screen(list, job, m, system); err != nil {
			return nil, false, err
		}
	}
	list.Add(xmldoc.New("rng", "model", "virtio").Add(xmldoc.Text("backend", "/dev/urandom", "model", "random")))
	return list, secret, nil
}

// onARM reports whether a machine's board is that of arm64, which has neither SATA
// nor the x86 kind of TPM.
func onARM(f *fleet.Fleet, m *fleet.Machine) bool {
	image := f.Image(m.Image)
	return image != nil && image.Arch == "arm64"
}

func tpmModel(f *fleet.Fleet, m *fleet.Machine) string {
	if onARM(f, m) {
		return "tpm-tis"
	}
	return "tpm-crb"
}

func screen(list *xmldoc.Element, job *render.Job, m *fleet.Machine, system catalog.System) error {
	c := &m.Console
	password := ""
	if c.Password != "" {
		var err error
		if password, err = job.Secret(c.Password); err != nil {
			return err
		}
		if !xmldoc.Holds(password) {
			return fmt.Errorf("the secret %q has a character that no XML document can hold", c.Password)
		}
	}
	width, height, _ := strings.Cut(c.Resolution, "x")
	adapter := "virtio"
	if !system.Linux() {
		adapter = "vga" // which systems without a driver for virtio know
	}
	list.Add(
		xmldoc.New("controller", "type", "usb", "model", "qemu-xhci"), // arm64 has none otherwise
		xmldoc.New("input", "type", "tablet", "bus", "usb"),
		xmldoc.New("input", "type", "keyboard", "bus", "usb"),
		xmldoc.New("graphics", "type", string(c.Protocol), "port", strconv.Itoa(c.Port), "autoport", "no", "listen",
			c.Listen.String(), "passwd", password).Add(
			xmldoc.New("listen", "type", "address", "address", c.Listen.String())),
		xmldoc.New("video").Add(xmldoc.New("model", "type", adapter, "heads", "1", "primary", "yes").Add(
			xmldoc.New("resolution", "x", width, "y", height))),
	)
	return nil
}
