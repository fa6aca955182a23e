package cloudinit

import (
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/render"
)

// verdict says what becomes of a field of first-boot data on one class of systems.
// The zero verdict is that it is carried.
type verdict struct {
	outcome render.Outcome
	how     string
}

var carried = verdict{}

func adapted(how string) verdict { return verdict{render.Adapted, how} }

func leftOut(why string) verdict { return verdict{render.LeftOut, why} }

// row gives the verdict on a field for each class of systems.
type row struct {
	field                   string
	linux, freeBSD, windows verdict
}

// onlyAPT says why other package managers drop a field.
const onlyAPT = "only apt has it"

// table gives the verdict on every field that goes into first-boot data. A test
// renders each field on each class of systems and compares.
func table() []row {
	same := func(v verdict, fields ...string) []row {
		var rows []row
		for _, field := range fields {
			rows = append(rows, row{field, v, v, v})
		}
		return rows
	}
	unix := func(v verdict, fields ...string) []row {
		var rows []row
		for _, field := range fields {
			rows = append(rows, row{field, v, v, leftOut("Windows does not read it from first-boot data")})
		}
		return rows
	}
	const packageManager = "in the form of apt, dnf, zypper, apk, pacman or pkg, depending on the system"
	rows := []row{
		{"machine.keyboard", carried, leftOut("cloud-init does not set it on FreeBSD"),
			leftOut("Windows does not read it from first-boot data")},
		{"disk.filesystem", carried, adapted("every file system becomes UFS, which newfs creates on an empty disk"),
			leftOut("Windows does not read it from first-boot data")},
		{"disk.mount", carried, adapted("mounted by its label below /dev/ufs"),
			leftOut("Windows does not read it from first-boot data")},
		{"first_boot.swap", carried, leftOut("cloud-init does not create swap on FreeBSD"),
			leftOut("Windows does not read it from first-boot data")},
		{"first_boot.services", adapted("a last script enables and starts them"),
			adapted("a last script enables and starts them"),
			adapted("a last PowerShell script sets and starts them")},
		{"user.admin", adapted("without-password becomes a sudo rule, with-password membership of the " +
			"administrators' group"),
			adapted("without-password becomes a sudo rule, with-password membership of the administrators' group"),
			adapted("both kinds become membership of Administrators")},
		{"user.password", adapted("the password is hashed with SHA-512 (crypt)"),
			adapted("the password is hashed with SHA-512 (crypt)"),
			adapted("it is in the first-boot data in the clear, since Windows accepts no hash")},
		{"script.text", adapted("a script that starts with #cloud-boothook becomes a part of a MIME archive, every " +
			"other one a file"),
			adapted("a script that starts with #cloud-boothook becomes a part of a MIME archive, every other one a file"),
			adapted("each script is a part of a MIME archive, run by PowerShell or, if it starts with @echo, by cmd")},
		{"script.when",
			adapted("scripts are in cloud-init's folders; at first boot, it runs those of every boot before those " +
				"that run once"),
			adapted("scripts are in cloud-init's folders; at first boot, it runs those of every boot before those " +
				"that run once"),
			adapted("scripts of every boot become a scheduled task at startup")},
	}
	rows = append(rows, same(carried,
		"machine.host_name", "nic.network", "nic.address", "nic.hardware_address", "nic.also", "nic.primary",
		"network.dns", "network.search", "network.gateway", "network.subnet", "route.to", "route.via",
		"user.full_name", "user.groups", "user.keys", "user.expires", "time.zone", "time.servers",
		"key.text", "file.text")...)
	rows = append(rows, unix(carried,
		"machine.domain", "machine.language", "disk.label", "disk.options", "user.uid", "user.shell", "user.home",
		"user.password_hash", "user.locked", "ssh.password_login", "first_boot.refresh", "first_boot.upgrade",
		"first_boot.restart", "first_boot.packages", "file.mode", "file.owner")...)
	rows = append(rows, same(adapted("it decides the administrators' group, the default shell and the form of "+
		"packages and services"),
		"image.os", "system.family")...)
	rows = append(rows, same(adapted("it is read now and is in the first-boot data, where every program on the "+
		"machine can read it"),
		"secret.env", "secret.file")...)
	rows = append(rows, same(adapted("the text is written as it was filled"), "file.fill", "script.fill")...)
	rows = append(rows, unix(adapted("root gets the keys of all administrators; by-any-way is a line in the SSH "+
		"server's configuration"),
		"ssh.root_login")...)
	rows = append(rows, unix(adapted("a script of the administrator's starts it with su"), "script.run_as")...)
	rows = append(rows, unix(adapted("the hypervisor's helper as a package"), "first_boot.guest_tools")...)
	rows = append(rows, unix(adapted(packageManager), "package_source.url", "package_source.key")...)
	for _, field := range []string{"package_source.suite", "package_source.components"} {
		rows = append(rows, row{field, adapted(packageManager), leftOut(onlyAPT),
			leftOut("Windows does not read it from first-boot data")})
	}
	return rows
}

// of returns the verdict for a class of systems.
func (r row) of(class catalog.Class) verdict {
	switch class {
	case catalog.ClassFreeBSD:
		return r.freeBSD
	case catalog.ClassWindows:
		return r.windows
	}
	return r.linux
}

func (r row) fate(class catalog.Class) render.Fate {
	v := r.of(class)
	return render.Fate{Field: r.field, Outcome: v.outcome, How: v.how}
}

// Fates returns the fates of the fields that go into first-boot data, on Linux.
// Targets that pass the data on merge the fates of all other fields with them, and
// return [Overrides] for machines with other systems.
func Fates() []render.Fate {
	var fates []render.Fate
	for _, r := range table() {
		fates = append(fates, r.fate(catalog.ClassLinux))
	}
	return fates
}

// Overrides returns the fates that differ from [Fates] on the system of a machine.
func Overrides(job *render.Job, m *fleet.Machine) []render.Fate {
	system := catalog.Of(job.Fleet, m)
	class := system.Family.Class()
	var fates []render.Fate
	for _, r := range table() {
		if r.of(class) != r.linux {
			fates = append(fates, r.fate(class))
		}
	}
	if class != catalog.ClassLinux {
		// Hosts share folders by virtiofs, which only Linux mounts.
		return append(fates, render.LeaveOut("only Linux mounts it", "share.host", "share.machine",
			"share.read_only")...)
	}
	if !system.Keyboard() {
		fates = append(fates, render.LeaveOut("cloud-init does not set the keyboard on this system",
			"machine.keyboard")...)
	}
	if system.Family.PackageManager != "apt" {
		fates = append(fates, render.LeaveOut(onlyAPT, "package_source.suite", "package_source.components")...)
	}
	return fates
}

// CloudFates returns the fates of the fields that only a cloud can act on, for
// targets that aren't clouds.
func CloudFates() []render.Fate {
	return render.LeaveOut("only a cloud can act on it",
		"machine.labels", "machine.public_address", "machine.names", "machine.firewall", "allowance.port",
		"allowance.from",
		"machine.region", "machine.zone", "machine.interruptible", "machine.when_stopped", "identity.account",
		"identity.scopes",
		"platform.region", "platform.zone", "platform.network", "platform.address_pool", "platform.size",
		"platform.settings",
		"size.cpus", "size.memory", "size.disk", "disk.speed", "image.ids")
}

// allFates returns the fates of every field in first-boot data alone.
func allFates() []render.Fate {
	return render.Merge(
		render.LeaveOut("first-boot data says nothing about the host; use a target for a hypervisor or cloud",
			"network.mode", "network.bridge", "network.dhcp_first", "network.dhcp_last",
			"image.arch", "image.file", "image.sha256", "machine.image",
			"resources.cpus", "resources.memory", "resources.priority",
			"disk.size", "disk.format", "disk.keep", "disk.start", "medium.file", "medium.boot_first",
			"medium.eject",
			"nic.model", "port.host", "port.machine", "port.protocol", "port.listen",
			"share.host",
			"console.kind", "console.protocol", "console.listen", "console.port", "console.resolution",
			"console.password",
			"firmware.kind", "firmware.secure_boot", "firmware.tpm", "machine.clock", "machine.autostart",
			"machine.autostart_delay"),
		CloudFates(),
		render.Adapt("it decides under which name the system finds the disk", "disk.bus"),
		render.Adapt("the machine mounts it; the host has to share it under the name of the share",
			"share.machine", "share.read_only"),
		render.Adapt("it marks what stavren writes in the machine", "fleet.fleet"),
		render.LeaveOut("a note for people, which the machine does not need", "fleet.about", "machine.about"),
		Fates(),
	)
}
