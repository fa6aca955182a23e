// Package cloudinit renders first-boot data in the form that cloud-init reads:
// user-data as cloud-config, meta-data, and version 2 of its network
// configuration. Other targets carry the same data by their own ways.
package cloudinit

import (
	"crypto/sha256"
	"fmt"
	"io/fs"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/render"
)

// Target renders the three files of each machine into a folder of its name.
var Target = render.Target{
	Name:      "cloud-init",
	Summary:   "first-boot data that cloud-init reads, as three files a machine",
	Writes:    []string{"MACHINE/user-data", "MACHINE/meta-data", "MACHINE/network-config"},
	Fates:     append(Fates(), hostFates...),
	Overrides: Overrides,
	Machine: func(job *render.Job, m *fleet.Machine) ([]render.File, error) {
		files, err := Files(job, m, Virtio)
		for i := range files {
			files[i].Name = m.Name + "/" + files[i].Name
		}
		return files, err
	},
}

// Overrides says what becomes of first-boot fields on systems that read less of
// the data than most: Windows and FreeBSD, and Alpine's keyboard.
func Overrides(job *render.Job, m *fleet.Machine) []render.Fate {
	system := catalog.Of(job.Fleet, m)
	switch {
	case system.Family.Name == catalog.Windows:
		return windowsFates
	case system.Family.Name == catalog.FreeBSD:
		return freeBSDFates
	case !system.Keyboard():
		return noKeyboard
	}
	return nil
}

var noKeyboard = render.LeaveOut("cloud-init sets no keyboard on this system", "machine.keyboard")

var windowsFates = append(render.LeaveOut("Windows reads no such first-boot data",
	"machine.language", "machine.keyboard", "first_boot.refresh", "first_boot.upgrade", "first_boot.restart",
	"first_boot.packages", "first_boot.swap", "first_boot.guest_tools",
	"package_source.url", "package_source.suite", "package_source.components", "package_source.key",
	"disk.filesystem", "disk.label", "disk.mount", "disk.options", "share.host", "share.machine", "share.read_only",
	"user.shell", "user.home", "user.uid", "user.password_hash", "user.locked",
	"ssh.root_login", "ssh.password_login", "file.mode", "file.owner", "script.run_as"),
	render.Fate{Field: "user.password", Outcome: render.Adapted, How: "it stands in the first-boot data in the clear, since Windows takes no hash"},
	render.Fate{Field: "user.admin", Outcome: render.Adapted, How: "both kinds become membership of Administrators"},
	render.Fate{Field: "script.when", Outcome: render.Adapted, How: "scripts of every boot become a scheduled task at startup"},
	render.Fate{Field: "script.text", Outcome: render.Adapted, How: "each script is a part of a MIME archive, run by PowerShell or, if it starts with @echo, by cmd"},
	render.Fate{Field: "first_boot.services", Outcome: render.Adapted, How: "a last PowerShell script sets and starts them"},
)

var freeBSDFates = append(render.LeaveOut("cloud-init does not say it on FreeBSD",
	"machine.keyboard", "first_boot.swap", "share.host", "share.machine", "share.read_only"),
	render.Fate{Field: "disk.filesystem", Outcome: render.Adapted, How: "every file system becomes UFS, made by newfs on an empty disk"},
	render.Fate{Field: "disk.mount", Outcome: render.Adapted, How: "mounted by its label below /dev/ufs"},
)

// Files renders user-data, meta-data and network-config. Data that holds a secret
// is for its owner's eyes alone.
func Files(job *render.Job, m *fleet.Machine, platform Platform) ([]render.File, error) {
	userData, err := UserData(job, m, platform)
	if err != nil {
		return nil, fmt.Errorf("user-data: %w", err)
	}
	metaData, err := MetaData(m, userData.Identity)
	if err != nil {
		return nil, fmt.Errorf("meta-data: %w", err)
	}
	network, err := NetworkConfig(job.Fleet, m, platform)
	if err != nil {
		return nil, fmt.Errorf("network-config: %w", err)
	}
	mode := fs.FileMode(0o644)
	if userData.Secret {
		mode = 0o600
	}
	return []render.File{
		{Name: "user-data", Data: userData.Text, Mode: mode},
		{Name: "meta-data", Data: metaData, Mode: 0o644},
		{Name: "network-config", Data: network, Mode: 0o644},
	}, nil
}

// MetaData names the instance. cloud-init runs the first boot again when the
// instance's id changes, so the id changes exactly when the identity of the user
// data does.
func MetaData(m *fleet.Machine, identity []byte) ([]byte, error) {
	sum := sha256.Sum256(identity)
	return encode("", mapping(
		"instance-id", fmt.Sprintf("%s-%x", m.Name, sum[:6]),
		"local-hostname", m.HostName,
	))
}

// Fates says what becomes of the fields that first-boot data speaks of. Targets
// that carry this data append the fates of all others.
func Fates() []render.Fate {
	fates := render.Carry(
		"machine.host_name", "machine.domain", "machine.language", "machine.keyboard",
		"network.dns", "network.search", "network.gateway", "network.subnet",
		"nic.network", "nic.address", "nic.hardware_address", "nic.also", "nic.primary", "route.to", "route.via",
		"disk.filesystem", "disk.label", "disk.mount", "disk.options",
		"user.full_name", "user.uid", "user.groups", "user.shell", "user.home", "user.keys", "user.password_hash", "user.locked", "user.expires",
		"ssh.password_login", "time.zone", "time.servers",
		"first_boot.refresh", "first_boot.upgrade", "first_boot.restart", "first_boot.packages", "first_boot.swap",
		"key.text", "file.text", "file.mode", "file.owner",
	)
	adapted := func(how string, fields ...string) {
		for _, field := range fields {
			fates = append(fates, render.Fate{Field: field, Outcome: render.Adapted, How: how})
		}
	}
	adapted("it chooses the administrators' group, the usual shell and how packages and services are named", "image.os", "system.family")
	adapted("without-password becomes a sudo rule, with-password membership of the administrators' group", "user.admin")
	adapted("the password is hashed with SHA-512 (crypt)", "user.password")
	adapted("it is read now and stands in the first-boot data, where every program of the machine can read it", "secret.env", "secret.file")
	adapted("root gets the keys of all administrators; by-any-way is a line in the SSH server's configuration", "ssh.root_login")
	adapted("scripts lie in cloud-init's folders; on the first boot it runs those of every boot before those that run once", "script.when")
	adapted("a script of the administrator's starts it with su", "script.run_as")
	adapted("the text is written as it was filled", "file.fill", "script.fill")
	adapted("a last script enables and starts them", "first_boot.services")
	adapted("a script that starts with #cloud-boothook becomes a part of a MIME archive, every other one a file", "script.text")
	adapted("the hypervisor's helper as a package", "first_boot.guest_tools")
	adapted("in the way of apt, dnf, zypper, apk, pacman or pkg, by the system's family", "package_source.url", "package_source.suite", "package_source.components", "package_source.key")
	return fates
}

// CloudFates are the fields that only a cloud can act on.
func CloudFates() []render.Fate {
	return render.LeaveOut("only a cloud can act on it",
		"machine.labels", "machine.public_address", "machine.names", "machine.firewall", "allowance.port", "allowance.from",
		"machine.region", "machine.zone", "machine.interruptible", "machine.when_stopped", "identity.account", "identity.scopes",
		"platform.region", "platform.zone", "platform.network", "platform.address_pool", "platform.size", "platform.settings",
		"size.cpus", "size.memory", "size.disk", "disk.speed", "image.ids")
}

// hostFates are the fields that only the host of a machine can act on.
var hostFates = func() []render.Fate {
	fates := render.LeaveOut("first-boot data says nothing about the host; use a hypervisor's or a cloud's target for it",
		"network.mode", "network.bridge", "network.dhcp_first", "network.dhcp_last",
		"image.arch", "image.file", "image.sha256", "machine.image",
		"resources.cpus", "resources.memory", "resources.priority",
		"disk.size", "disk.format", "disk.bus", "disk.keep", "disk.start", "medium.file", "medium.boot_first", "medium.eject",
		"nic.model", "port.host", "port.machine", "port.protocol", "port.listen",
		"share.host", "share.machine", "share.read_only",
		"console.kind", "console.protocol", "console.listen", "console.port", "console.resolution", "console.password",
		"firmware.kind", "firmware.secure_boot", "firmware.tpm", "machine.clock", "machine.autostart", "machine.autostart_delay")
	fates = append(fates, CloudFates()...)
	return append(fates, render.LeaveOut("a name or a note for people, which the machine does not need", "fleet.fleet", "fleet.about", "machine.about")...)
}()
