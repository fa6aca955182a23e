package cloudinit

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/render"
)

// Platform is how the machine finds what the data speaks of where it runs.
type Platform struct {
	// DiskDevice returns the device of a data disk inside the machine.
	DiskDevice func(disk *fleet.Disk) string
	// GuestTools is the package of the hypervisor's helper, or empty.
	GuestTools string
}

// Virtio is the platform of hypervisors whose disks carry their serials to the
// guest by virtio: udev names them below /dev/disk/by-id.
var Virtio = Platform{
	DiskDevice: func(disk *fleet.Disk) string { return "/dev/disk/by-id/virtio-" + disk.Serial },
	GuestTools: "qemu-guest-agent",
}

// UserData renders what happens inside the machine as cloud-config, the form
// that starts with "#cloud-config". It reports whether the data holds a secret.
func UserData(job *render.Job, m *fleet.Machine, platform Platform) (data []byte, secret bool, err error) {
	system := catalog.Of(job.Fleet, m)
	boot := m.FirstBoot
	accounts, passwords, err := users(job, m, system)
	if err != nil {
		return nil, false, err
	}
	written, revealed, err := files(job, m, system)
	if err != nil {
		return nil, false, err
	}
	sources, err := packageSources(boot.Sources, system)
	if err != nil {
		return nil, false, err
	}
	packages := boot.Packages
	if boot.GuestTools && platform.GuestTools != "" && !slices.Contains(packages, platform.GuestTools) {
		packages = append(slices.Clone(packages), platform.GuestTools)
	}
	pairs := []any{
		"hostname", m.HostName,
		"fqdn", fullName(m),
		"manage_etc_hosts", "localhost",
		"users", accounts,
		"chpasswd", passwords,
		// Written out, not left to what the image happens to say.
		"ssh_pwauth", m.SSH.PasswordLogin,
		"disable_root", m.SSH.RootLogin == fleet.NoRootLogin,
		"timezone", timeZone(m),
		"ntp", timeServers(m),
		"locale", optional(m.Language),
		"keyboard", mapping("layout", optional(m.Keyboard)),
		"fs_setup", fileSystems(m, platform),
		"mounts", mounts(m),
		"swap", swap(boot.Swap),
	}
	pairs = append(pairs, sources...)
	pairs = append(pairs,
		"package_update", boot.Refresh,
		"package_upgrade", boot.Upgrade,
		"package_reboot_if_required", boot.Restart,
		"packages", packages,
		"write_files", written,
	)
	data, err = encode("#cloud-config\n", mapping(pairs...))
	return data, revealed || passwords != nil, err
}

func fullName(m *fleet.Machine) any {
	if m.Domain == "" {
		return nil
	}
	return m.FullName()
}

// timeZone leaves a default to the image, which comes in UTC: setting it again
// would fail on images without the time zone database.
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

// fileSystems formats data disks. With partition "auto" cloud-init takes a disk
// that holds the file system asked for as it is, formats an empty one as a
// whole, and leaves one that holds anything else alone (cc_disk_setup, mkfs).
func fileSystems(m *fleet.Machine, platform Platform) []*yaml.Node {
	var list []*yaml.Node
	for _, disk := range m.Disks {
		if disk.FileSystem == "" {
			continue
		}
		list = append(list, mapping(
			"device", platform.DiskDevice(disk),
			"filesystem", disk.FileSystem,
			"label", disk.Label,
			"partition", "auto",
			"overwrite", false,
		))
	}
	return list
}

// mounts renders fstab lines. nofail lets a machine boot without its data disk;
// the last two fields are no dump, and the check after the root's.
func mounts(m *fleet.Machine) []*yaml.Node {
	var list []*yaml.Node
	for _, disk := range m.Disks {
		if disk.Mount == "" {
			continue
		}
		options := strings.Join(append([]string{"defaults", "nofail"}, disk.Options...), ",")
		line := node([]string{"LABEL=" + disk.Label, disk.Mount, disk.FileSystem, options, "0", "2"})
		list = append(list, flow(line))
	}
	return list
}
