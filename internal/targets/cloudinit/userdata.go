package cloudinit

import (
	"bytes"
	"net/netip"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/targets/firewall"
	"stavren.example/stavren/render"
)

// Environment describes where a machine finds what its data refers to.
type Environment struct {
	// DiskDevice returns the device of a data disk inside the machine.
	DiskDevice func(disk *fleet.Disk) string
	// FindDisk returns a shell command that prints the device of a data disk, for
	// platforms that don't name it themselves. DiskDevice is then a link to that
	// device. It is nil for other platforms.
	FindDisk func(m *fleet.Machine, disk *fleet.Disk) string
	// FindOnFreeBSD returns a shell command that prints the name of a data disk on
	// FreeBSD, such as "da1". If it is nil, the disk is found by its serial.
	FindOnFreeBSD func(m *fleet.Machine, disk *fleet.Disk) string
	// NewAddresses says that an import gives the interfaces new hardware addresses, so
	// that a machine with one interface must not look for it by that.
	NewAddresses bool
	// GuestTools is the package of the hypervisor's helper, or empty.
	GuestTools string
	// ShareType is the file system as which folders of the host appear under their names,
	// "virtiofs" or "9p", or empty.
	ShareType string
	// HandsOut reports whether the platform assigns a fixed address by DHCP, so that
	// the machine asks for it as for any other. It may be nil.
	HandsOut func(f *fleet.Fleet, m *fleet.Machine, nic *fleet.NIC) bool
	// NoDHCP reports whether nothing assigns addresses on a network, so that machines
	// without one get a permanent one. It may be nil.
	NoDHCP func(network *fleet.Network) bool
	// NameServer returns the name server of a network for which the definition has none,
	// or an invalid address. It may be nil.
	NameServer func(network *fleet.Network) netip.Addr
	// SearchDomain returns the domain that a network's name server knows machines in, if
	// the definition has none. It may be nil.
	SearchDomain func(f *fleet.Fleet, m *fleet.Machine, nic *fleet.NIC) string
	// Neighbours says that machines learn each other's names on networks without a
	// name server.
	Neighbours bool
	// Firewall returns what the machine itself has to let in, and false if it refuses
	// nothing: it has no firewalls, or its platform keeps them. It may be nil.
	Firewall func(f *fleet.Fleet, m *fleet.Machine) ([]firewall.Opening, bool)
}

// openings returns what the machine itself has to let in, and whether it refuses the rest.
func (e Environment) openings(f *fleet.Fleet, m *fleet.Machine) ([]firewall.Opening, bool) {
	if e.Firewall == nil {
		return nil, false
	}
	return e.Firewall(f, m)
}

// Virtio is the environment of hypervisors that pass the serials of disks to the
// guest. There, udev names them below /dev/disk/by-id after the bus and, if QEMU
// emulates a drive, its model (60-persistent-storage.rules).
var Virtio = Environment{
	DiskDevice: func(disk *fleet.Disk) string { return "/dev/disk/by-id/" + idPrefix(disk.Bus) + disk.Serial },
	GuestTools: "qemu-guest-agent",
	ShareType:  "virtiofs",
	Neighbours: true,
}

func idPrefix(bus fleet.DiskBus) string {
	switch bus {
	case fleet.VirtIO:
		return "virtio-"
	case fleet.SCSI:
		return "scsi-0QEMU_QEMU_HARDDISK_"
	case fleet.SATA:
		return "ata-QEMU_HARDDISK_"
	case fleet.NVMe:
		return "nvme-QEMU_NVMe_Ctrl_"
	}
	return ""
}

// Data is the user data of one machine.
type Data struct {
	Text []byte
	// Identity is the part of the data that makes a new instance when it changes: all
	// but what runs at every start.
	Identity []byte
	// Secret says that the text has a secret.
	Secret bool
	// Parts lists the sizes of its parts, for people who exceed a limit.
	Parts []Part
}

// Part is one piece of user data and its size in bytes.
type Part struct {
	Name string
	Size int
}

// UserData renders what happens inside the machine: as cloud-config, the form that
// starts with "#cloud-config", or as an archive of parts if a script has to be one of
// its own.
func UserData(job *render.Job, m *fleet.Machine, environment Environment) (Data, error) {
	system := catalog.Of(job.Fleet, m)
	if system.Family.Name == catalog.Windows {
		return windowsData(job, m, system, environment)
	}
	return unixData(job, m, system, environment)
}

// unixData renders cloud-config.
func unixData(
	job *render.Job, m *fleet.Machine, system catalog.System, environment Environment,
) (Data, error) {
	accounts, passwords, err := users(job, m, system)
	if err != nil {
		return Data{}, err
	}
	written, err := files(job, m, system, environment)
	if err != nil {
		return Data{}, err
	}
	sources := packageSources(m.FirstBoot.Sources, system)
	pairs := []any{
		"hostname", m.HostName,
		"fqdn", fullName(m),
		"manage_etc_hosts", "localhost",
		"users", accounts,
	}
	pairs = append(pairs, systemKeys(m, system)...)
	pairs = append(pairs,
		"fs_setup", fileSystems(m, system, environment),
		"mounts", mounts(m, system),
	)
	if system.Family.Name != catalog.FreeBSD {
		pairs = append(pairs, "swap", swap(m.FirstBoot.Swap))
	}
	pairs = append(pairs, sources.keys...)
	pairs = append(pairs, packageKeys(m, system, environment)...)
	pairs = append(pairs, "write_files", append(sources.files, written.nodes...))
	config, err := encode("#cloud-config\n", mapping(pairs...))
	if err != nil {
		return Data{}, err
	}
	data := Data{Text: config, Identity: config, Secret: written.secret || passwords, Parts: written.parts}
	if commands := earlyCommands(job.Fleet, m, system, environment, sources.commands); len(commands) > 0 {
		early, err := encode("", mapping("bootcmd", commands))
		if err != nil {
			return Data{}, err
		}
		data.Text = append(bytes.Clone(config), early...)
	}
	if len(written.boothooks) > 0 {
		data.Text = withBoothooks(data.Text, written.boothooks)
		data.Identity = withBoothooks(config, written.boothooks)
	}
	return data, nil
}

// withBoothooks returns an archive of cloud-config and scripts that are parts of it.
func withBoothooks(config []byte, boothooks []part) []byte {
	return archive(append([]part{{"cloud-config.yaml", "text/cloud-config", string(config)}}, boothooks...))
}

// systemKeys returns the keys on logging in, time and language.
func systemKeys(m *fleet.Machine, system catalog.System) []any {
	pairs := []any{
		// It is always written, so that the image's own setting doesn't matter.
		"ssh_pwauth", m.SSH.PasswordLogin,
		"disable_root", m.SSH.RootLogin == fleet.NoRootLogin,
		"timezone", timeZone(m),
		"ntp", timeServers(m),
		"locale", optional(m.Language),
	}
	if system.Keyboard() {
		pairs = append(pairs, "keyboard", mapping("layout", optional(m.Keyboard)))
	}
	return pairs
}

// needsSudo reports whether a machine has administrators by sudo on a system whose base
// lacks it.
func needsSudo(m *fleet.Machine, system catalog.System) bool {
	return system.Family.Name == catalog.FreeBSD &&
		slices.ContainsFunc(m.Users, func(u *fleet.User) bool { return u.Admin == fleet.AdminWithoutPassword })
}

// packageKeys returns the keys on packages.
func packageKeys(m *fleet.Machine, system catalog.System, environment Environment) []any {
	packages := m.FirstBoot.Packages
	if needsSudo(m, system) && !slices.Contains(packages, "sudo") {
		packages = append(slices.Clone(packages), "sudo")
	}
	if tools := environment.GuestTools; m.FirstBoot.GuestTools && tools != "" && !slices.Contains(packages, tools) {
		packages = append(slices.Clone(packages), tools)
	}
	return []any{
		"package_update", m.FirstBoot.Refresh,
		"package_upgrade", m.FirstBoot.Upgrade,
		"package_reboot_if_required", m.FirstBoot.Restart,
		"packages", packages,
	}
}

func fullName(m *fleet.Machine) any {
	if m.Domain == "" {
		return nil
	}
	return m.FullName()
}

// timeZone leaves the default to the image, which is in UTC. Setting it again would
// fail on images without the time zone database.
func timeZone(m *fleet.Machine) any {
	if m.Time.IsDefault("zone") {
		return nil
	}
	return m.Time.Zone
}

func timeServers(m *fleet.Machine) any {
	if len(m.Time.Servers) == 0 {
		return nil
	}
	return mapping("enabled", true, "servers", m.Time.Servers)
}

func swap(size fleet.Bytes) any {
	if size == 0 {
		return nil
	}
	return mapping("filename", "/swapfile", "size", int(size))
}

func optional(text string) any {
	if text == "" {
		return nil
	}
	return text
}

// fileSystems formats data disks. With partition "auto", cloud-init keeps a disk that
// has the right file system, formats an empty one as a whole, and leaves any other
// alone (cc_disk_setup, mkfs). FreeBSD lacks the programs that it looks for; see
// newFileSystem.
func fileSystems(m *fleet.Machine, system catalog.System, environment Environment) []*yaml.Node {
	var list []*yaml.Node
	for _, disk := range m.Disks {
		if disk.FileSystem == "" || system.Family.Name == catalog.FreeBSD {
			continue
		}
		list = append(list, mapping(
			"device", environment.DiskDevice(disk),
			"filesystem", disk.FileSystem,
			"label", disk.Label,
			"partition", "auto",
			"overwrite", false,
			"cmd", makeCommand(disk.FileSystem),
		))
	}
	return list
}

// makeCommand returns the command that makes a file system, where cloud-init's own
// passes a label by an option that the program doesn't have: mkfs.fat(8) has -n.
func makeCommand(fileSystem string) any {
	if fileSystem != "vfat" {
		return nil
	}
	return "mkfs.vfat -n %(label)s %(device)s"
}

// mounts renders lines of fstab. nofail lets a machine boot without its data disk.
// The last two fields mean no dump, and a check after the root file system.
func mounts(m *fleet.Machine, system catalog.System) []*yaml.Node {
	var list []*yaml.Node
	for _, disk := range m.Disks {
		if disk.Mount == "" || system.Family.Name == catalog.FreeBSD {
			continue // see mountDisk
		}
		fields := []string{"LABEL=" + disk.Label, disk.Mount, disk.FileSystem, "defaults,nofail", "0", "2"}
		fields[3] = strings.Join(append([]string{fields[3]}, disk.Options...), ",")
		list = append(list, flow(node(fields)))
	}
	return list
}
