package bhyve

import (
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/quote"
	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/render"
)

// tapName returns the name of the host's side of an interface, which has to start
// with tap.
func tapName(m *fleet.Machine, at int) string {
	return fmt.Sprintf("tap%s%d", strings.ReplaceAll(m.NICs[at].HardwareAddress, ":", "")[6:], at)
}

// config collects lines of KEY=VALUE. Devices are in consecutive slots.
type config struct {
	text strings.Builder
	slot int
}

func (c *config) set(key, value string) { fmt.Fprintf(&c.text, "%s=%s\n", key, quote.Bhyve(value)) }

// device puts a device into the next slot, with alternating keys and values of
// settings. It returns the beginning of its keys.
func (c *config) device(kind string, pairs ...string) string {
	prefix := fmt.Sprintf("pci.0.%d.0.", c.slot)
	c.slot++
	c.set(prefix+"device", kind)
	for i := 0; i+1 < len(pairs); i += 2 {
		c.set(prefix+pairs[i], pairs[i+1])
	}
	return prefix
}

func (c *config) heading(text string) { fmt.Fprintf(&c.text, "\n# %s\n", text) }

// nullModem returns the two ends of a serial line for a machine that no terminal is
// attached to (nmdm(4)): the machine's end, and the one that cu(1) opens.
func nullModem(m *fleet.Machine) (machine, other string) {
	return "/dev/nmdm-" + m.Name + "-A", "/dev/nmdm-" + m.Name + "-B"
}

// configuration renders bhyve.conf (bhyve_config(5)).
func configuration(job *render.Job, m *fleet.Machine) (render.File, error) {
	var c config
	c.text.WriteString(quote.Comment("#", m.About))
	c.machine(m)
	c.disks(m)
	c.discs(job, m)
	c.networks(job.Fleet, m)
	c.shares(job, m)
	c.device("virtio-rnd")
	password, err := consolePassword(job, m)
	if err != nil {
		return render.File{}, err
	}
	if m.Console.Kind == fleet.Graphical {
		c.screen(&m.Console, password)
	}
	// The bridge to old devices is in the slot where boards have it.
	c.heading("serial port and firmware")
	c.slot = 31
	c.device("lpc")
	if bootsFromDisc(m) {
		// Firmware learns the order of devices by QEMU's interface alone (bhyve(8)).
		c.set("lpc.fwcfg", "qemu")
	}
	mode := fs.FileMode(0o644)
	if hasPassword(m) {
		mode = 0o600
	}
	return render.File{Name: m.Name + "/bhyve.conf", Data: []byte(c.text.String()), Mode: mode}, nil
}

func (c *config) machine(m *fleet.Machine) {
	c.set("name", m.Name)
	c.set("cpus", fmt.Sprint(m.Resources.CPUs))
	c.set("memory.size", fmt.Sprintf("%dM", (m.Resources.Memory+fleet.MiB-1)/fleet.MiB))
	c.set("acpi_tables", "true")
	c.set("x86.vmexit_on_hlt", "true")
	c.set("rtc.use_localtime", fmt.Sprint(m.Clock == fleet.Local))
	// Code and variables are a pair of files; the firmware in one file, BHYVE_UEFI.fd, has
	// no place for variables (bhyve(8), option -l bootrom).
	c.set("lpc.bootrom", "/usr/local/share/uefi-firmware/BHYVE_UEFI_CODE.fd")
	c.set("lpc.bootvars", "variables.fd")
	// A file can't be a serial port. Started at a terminal, run.sh puts that here instead.
	serial, _ := nullModem(m)
	c.set("lpc.com1.path", serial)
	c.device("hostbridge")
}

func bootsFromDisc(m *fleet.Machine) bool {
	return slices.ContainsFunc(m.Media, func(disc *fleet.Medium) bool { return disc.BootFirst })
}

func (c *config) disks(m *fleet.Machine) {
	c.heading("disks, the root disk first")
	for _, disk := range m.Disks {
		file := disk.Name + ".img"
		var prefix string
		switch busOf(disk) {
		case fleet.SATA:
			prefix = c.device("ahci", "port.0.type", "hd", "port.0.path", file, "port.0.ser", disk.Serial) + "port.0."
		case fleet.NVMe:
			prefix = c.device("nvme", "path", file, "ser", disk.Serial)
		default:
			prefix = c.device("virtio-blk", "path", file, "ser", disk.Serial)
		}
		if disk.IsRoot() && bootsFromDisc(m) {
			c.set(prefix+"bootindex", fmt.Sprint(len(m.Media)+1))
		}
	}
}

func (c *config) discs(job *render.Job, m *fleet.Machine) {
	c.heading("first-boot data and discs")
	drive := c.device("ahci", "port.0.type", "cd", "port.0.path", "seed.iso", "port.0.ro", "true")
	for i, disc := range m.Media {
		port := fmt.Sprintf("%sport.%d.", drive, i+1)
		c.set(port+"type", "cd")
		c.set(port+"path", job.Path(disc.Folder, disc.File))
		c.set(port+"ro", "true")
		if disc.BootFirst {
			c.set(port+"bootindex", fmt.Sprint(i+1))
		}
	}
}

// shares passes folders of the host on by the 9P protocol.
func (c *config) shares(job *render.Job, m *fleet.Machine) {
	if len(m.Shares) == 0 || !catalog.Of(job.Fleet, m).Linux() {
		return
	}
	c.heading("shared folders")
	for _, share := range m.Shares {
		c.device("virtio-9p", "sharename", share.Name, "path", job.AbsolutePath(share.Folder, share.Host), "ro",
			fmt.Sprint(share.ReadOnly))
	}
}

func (c *config) networks(f *fleet.Fleet, m *fleet.Machine) {
	c.heading("network interfaces")
	for i, nic := range m.NICs {
		kind := "virtio-net"
		if hypervisor.ModelOf(f, m, nic) == fleet.E1000 {
			kind = "e1000"
		}
		c.device(kind, "backend", tapName(m, i), "mac", nic.HardwareAddress)
	}
}

func (c *config) screen(console *fleet.Console, password string) {
	c.heading("screen, keyboard and pointer")
	width, height, _ := strings.Cut(console.Resolution, "x")
	screen := []string{"rfb", netip.AddrPortFrom(console.Listen, uint16(console.Port)).String(),
		"w", width, "h", height}
	if console.Password != "" {
		screen = append(screen, "password", password)
	}
	c.device("fbuf", screen...)
	c.device("xhci", "slot.1.device", "tablet")
}

func hasPassword(m *fleet.Machine) bool {
	return m.Console.Kind == fleet.Graphical && m.Console.Password != ""
}

// consolePassword returns the password of a graphical console, or "".
func consolePassword(job *render.Job, m *fleet.Machine) (string, error) {
	if !hasPassword(m) {
		return "", nil
	}
	password, err := job.Secret(m.Console.Password)
	if err != nil {
		return "", err
	}
	if strings.ContainsAny(password, "\n\r") {
		return "", errors.New("the password of the console has more than one line, which bhyve.conf can't hold")
	}
	return password, nil
}
