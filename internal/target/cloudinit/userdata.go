package cloudinit

import (
	"encoding/base64"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

// Platform is how the machine finds what the data speaks of where it runs.
type Platform struct {
	// DiskDevice returns the device of a data disk inside the machine.
	DiskDevice func(disk *fleet.Disk) string
}

// Virtio is the platform of hypervisors whose disks carry their serials to the
// guest by virtio: udev names them below /dev/disk/by-id.
var Virtio = Platform{
	DiskDevice: func(disk *fleet.Disk) string { return "/dev/disk/by-id/virtio-" + disk.Serial },
}

// Where cloud-init keeps scripts (cc_scripts_user, cc_scripts_per_boot). Those
// of an instance lie in its own folder, so that a new instance starts without
// the scripts of the old one.
const (
	onceFolder      = "/var/lib/cloud/instance/scripts"
	everyBootFolder = "/var/lib/cloud/scripts/per-boot"
)

// UserData renders what happens inside the machine as cloud-config, the form
// that starts with "#cloud-config".
func UserData(f *fleet.Fleet, m *fleet.Machine, platform Platform) ([]byte, error) {
	system := catalog.Of(f, m)
	boot := m.FirstBoot
	document := mapping(
		"hostname", m.HostName,
		"fqdn", fullName(m),
		"manage_etc_hosts", "localhost",
		"users", users(f, m, system),
		// Written out, not left to what the image happens to say.
		"ssh_pwauth", false,
		"disable_root", true,
		"fs_setup", fileSystems(m, platform),
		"mounts", mounts(m),
		"package_update", boot.Refresh,
		"package_upgrade", boot.Upgrade,
		"packages", boot.Packages,
		"write_files", files(m),
	)
	return encode("#cloud-config\n", document)
}

func fullName(m *fleet.Machine) any {
	if m.Domain == "" {
		return nil
	}
	return m.HostName + "." + m.Domain
}

// users renders the accounts. The list has no entry "default", so the image's
// own login is not made; a machine without users says so with an empty map, for
// the same reason.
func users(f *fleet.Fleet, m *fleet.Machine, system catalog.System) kept {
	list := &yaml.Node{Kind: yaml.SequenceNode}
	for _, user := range m.Users {
		groups := user.Groups
		var sudo any
		switch user.Admin {
		case fleet.AdminWithoutPassword:
			sudo = "ALL=(ALL) NOPASSWD:ALL"
		case fleet.AdminWithPassword:
			if !slices.Contains(groups, system.Family.AdminGroup) {
				groups = append(slices.Clone(groups), system.Family.AdminGroup)
			}
		}
		shell := user.Shell
		if shell == "" {
			shell = system.Family.Shell
		}
		var keys []string
		for _, name := range user.Keys {
			if key := f.Key(name); key != nil {
				keys = append(keys, strings.TrimSpace(key.Text))
			}
		}
		list.Content = append(list.Content, mapping(
			"name", user.Name,
			"gecos", optional(user.FullName),
			"groups", flow(node(groups)),
			"shell", shell,
			"sudo", sudo,
			"lock_passwd", true,
			"ssh_authorized_keys", keys,
		))
	}
	if len(list.Content) == 0 {
		// cloud-init's schema refuses an empty list and takes an empty map.
		return kept{flow(&yaml.Node{Kind: yaml.MappingNode})}
	}
	return kept{list}
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
		line := node([]string{"LABEL=" + disk.Label, disk.Mount, disk.FileSystem, "defaults,nofail", "0", "2"})
		list = append(list, flow(line))
	}
	return list
}

// files renders files and scripts. Scripts travel as files in the folders that
// cloud-init runs, never as lines of a command list, where quoting breaks them.
func files(m *fleet.Machine) []*yaml.Node {
	var list []*yaml.Node
	for _, file := range m.FirstBoot.Files {
		list = append(list, writeFile(file.Path, file.Text, fleet.FormatMode(file.Mode), file.Owner, deferred(m, file)))
	}
	counts := map[fleet.When]int{}
	for _, script := range m.FirstBoot.Scripts {
		counts[script.When]++
		folder := onceFolder
		if script.When == fleet.EveryBoot {
			folder = everyBootFolder
		}
		name := fmt.Sprintf("%s/%02d-%s", folder, counts[script.When], script.Name)
		list = append(list, writeFile(name, withInterpreter(script.Text), "0700", fleet.DefaultFileOwner, false))
	}
	return list
}

// withInterpreter gives a script without a first line for the kernel /bin/sh.
func withInterpreter(text string) string {
	if strings.HasPrefix(text, "#!") {
		return text
	}
	return "#!/bin/sh\n" + text
}

func writeFile(name, text, mode, owner string, deferred bool) *yaml.Node {
	var encoding, late any
	content := textNode(text)
	if !utf8.ValidString(text) || strings.ContainsRune(text, 0) {
		encoding = "b64"
		content = textNode(base64.StdEncoding.EncodeToString([]byte(text)))
	}
	if deferred {
		late = true
	}
	return mapping(
		"path", name,
		"owner", owner,
		"permissions", mode,
		"defer", late,
		"encoding", encoding,
		"content", content,
	)
}

// baseGroups exist before packages and users are there, in every family.
var baseGroups = map[string]bool{"root": true, "adm": true, "sys": true, "bin": true, "daemon": true, "wheel": true, "disk": true, "mail": true}

// deferred reports whether a file has to wait until packages and users are in
// and disks are mounted: files are otherwise written before all three.
func deferred(m *fleet.Machine, file *fleet.File) bool {
	user, group, _ := strings.Cut(file.Owner, ":")
	if user != "root" || !baseGroups[group] {
		return true
	}
	for _, disk := range m.Disks {
		if disk.Mount != "" && strings.HasPrefix(file.Path, path.Clean(disk.Mount)+"/") {
			return true
		}
	}
	return false
}
