package cloudinit

import (
	"encoding/base64"
	"fmt"
	"path"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/render"
)

// The folders of cloud-init's scripts (cc_scripts_user, cc_scripts_per_boot). Each
// instance has a folder of its own, so that a new instance starts without the scripts
// of the old one.
const (
	onceFolder      = "/var/lib/cloud/instance/scripts"
	everyBootFolder = "/var/lib/cloud/scripts/per-boot"
	// ownFolder has scripts that don't run as the administrator.
	ownFolder = "/var/lib/stavren"
)

// writtenFiles is what the files and scripts of a machine become.
type writtenFiles struct {
	nodes     []*yaml.Node
	boothooks []part
	secret    bool
	parts     []Part
}

// boothook is the first line of a script that becomes a part of its own, which
// cloud-init runs as soon as it has read it.
const boothook = "#cloud-boothook"

// files renders files and scripts. Scripts become files in the folders that
// cloud-init runs, never lines of a command list, where quoting would break them.
func files(job *render.Job, m *fleet.Machine, system catalog.System,
	environment Environment) (written writtenFiles, err error) {
	add := func(name, text, mode, owner string, deferred bool) {
		written.nodes = append(written.nodes, writeFile(name, text, mode, owner, deferred))
	}
	rootOwner := "root:" + system.Family.RootGroup
	for _, file := range m.FirstBoot.Files {
		text, revealed, err := reveal(job, &file.Content)
		if err != nil {
			return writtenFiles{}, fmt.Errorf("file %s: %w", file.Path, err)
		}
		written.secret = written.secret || revealed
		written.parts = append(written.parts, Part{"file " + file.Path, len(text)})
		owner := file.Owner
		if owner == fleet.DefaultFileOwner && file.IsDefault("owner") {
			owner = rootOwner
		}
		add(file.Path, text, fleet.FormatMode(file.Mode), owner, deferred(m, file))
	}
	if _, refuses := environment.openings(job.Fleet, m); refuses && system.Linux() {
		add(onceFolder+"/00-firewall", installTable(system), "0700", rootOwner, false)
	}
	counts := map[fleet.When]int{}
	for _, script := range m.FirstBoot.Scripts {
		text, revealed, err := reveal(job, &script.Content)
		if err != nil {
			return writtenFiles{}, fmt.Errorf("script %s: %w", script.Name, err)
		}
		written.secret = written.secret || revealed
		written.parts = append(written.parts, Part{"script " + script.Name, len(text)})
		if strings.HasPrefix(text, boothook) {
			written.boothooks = append(written.boothooks, part{script.Name, "text/cloud-boothook", text})
			continue
		}
		counts[script.When]++
		folder := onceFolder
		if script.When == fleet.EveryBoot {
			folder = everyBootFolder
		}
		name := fmt.Sprintf("%02d-%s", counts[script.When], script.Name)
		text = withInterpreter(text)
		if script.RunAs != fleet.DefaultRunAs {
			own := ownFolder + "/" + string(script.When) + "-" + name
			add(own, text, "0700", script.RunAs+":"+script.RunAs, true)
			text = fmt.Sprintf("#!/bin/sh\nexec su - %s -c %s\n", script.RunAs, own)
		}
		add(folder+"/"+name, text, "0700", rootOwner, false)
	}
	if services := append(helperService(m, system, environment), m.FirstBoot.Services...); len(services) > 0 {
		text, err := enableServices(services, system)
		if err != nil {
			return writtenFiles{}, err
		}
		add(onceFolder+"/99-services", text, "0700", rootOwner, false)
	}
	return written, nil
}

// helperService returns the service of the hypervisor's helper where installing the
// package doesn't start it: with systemd, a rule of udev does.
func helperService(m *fleet.Machine, system catalog.System, environment Environment) []string {
	if !m.FirstBoot.GuestTools || environment.GuestTools == "" {
		return nil
	}
	switch system.Family.ServiceManager {
	case "openrc":
		return []string{environment.GuestTools}
	case "rc": // whose names are those of variables in the shell
		return []string{strings.ReplaceAll(environment.GuestTools, "-", "_")}
	}
	return nil
}

// enableServices returns a script that enables and starts services with the system's
// service manager. The names contain no character that is special to a shell.
func enableServices(services []string, system catalog.System) (string, error) {
	var text strings.Builder
	text.WriteString("#!/bin/sh\nset -eu\n")
	for _, service := range services {
		switch manager := system.Family.ServiceManager; manager {
		case "systemd":
			fmt.Fprintf(&text, "systemctl enable --now %s\n", service)
		case "openrc":
			fmt.Fprintf(&text, "rc-update add %[1]s default\nrc-service %[1]s start\n", service)
		case "rc":
			fmt.Fprintf(&text, "service %[1]s enable\nservice %[1]s start\n", service)
		default:
			return "", fmt.Errorf("services of %s cannot be enabled by a shell script; use a PowerShell script",
				system.Title)
		}
	}
	return text.String(), nil
}

// withInterpreter adds /bin/sh as the interpreter of a script without a first line
// for the kernel.
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
		"owner", optional(owner),
		"permissions", optional(mode),
		"defer", late,
		"encoding", encoding,
		"content", content,
	)
}

// isBaseGroup reports whether a group exists in every family before packages and
// users are installed.
func isBaseGroup(group string) bool {
	switch group {
	case "root", "adm", "sys", "bin", "daemon", "wheel", "disk", "mail":
		return true
	}
	return false
}

// deferred reports whether a file has to wait until packages and users are installed
// and disks are mounted. Other files are written before all three.
func deferred(m *fleet.Machine, file *fleet.File) bool {
	user, group, _ := strings.Cut(file.Owner, ":")
	if user != "root" || !isBaseGroup(group) {
		return true
	}
	for _, disk := range m.Disks {
		if disk.Mount != "" && strings.HasPrefix(file.Path, path.Clean(disk.Mount)+"/") {
			return true
		}
	}
	return false
}
