package cloudinit

import (
	"slices"

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

// Reasons that several fields share.
const (
	notOnWindows   = "Windows does not read it from first-boot data"
	onlyAPT        = "only apt has it"
	onlyAPK        = "only apk looks for keys by their names"
	packageManager = "in the form of apt, dnf, zypper, apk, pacman or pkg, depending on the system"
)

// everywhere gives some fields the same verdict on every class of systems.
func everywhere(v verdict, fields ...string) []row {
	var rows []row
	for _, field := range fields {
		rows = append(rows, row{field, v, v, v})
	}
	return rows
}

// onUnix gives some fields a verdict on Linux and FreeBSD, and leaves them out on
// Windows.
func onUnix(v verdict, fields ...string) []row {
	var rows []row
	for _, field := range fields {
		rows = append(rows, row{field, v, v, leftOut(notOnWindows)})
	}
	return rows
}

// table gives the verdict on every field that goes into first-boot data. A test
// renders each field on each class of systems and compares.
func table() []row {
	return slices.Concat(
		byClass(),
		everywhere(carried,
			"machine.host_name", "nic.network", "nic.address", "nic.hardware_address", "nic.also", "nic.primary",
			"network.dns", "network.search", "network.gateway", "network.subnet", "route.to", "route.via",
			"user.full_name", "user.groups", "user.keys", "user.expires", "time.zone", "time.servers",
			"key.text", "file.text"),
		onUnix(carried,
			"machine.domain", "machine.language", "disk.label", "disk.options", "user.uid", "user.shell", "user.home",
			"user.password_hash", "user.locked", "ssh.password_login", "first_boot.refresh", "first_boot.upgrade",
			"first_boot.restart", "first_boot.packages", "file.mode", "file.owner"),
		everywhere(adapted("it decides the administrators' group, the default shell and the form of packages and "+
			"services"),
			"image.os", "system.family"),
		everywhere(adapted("it is read now and is in the first-boot data, where every program on the machine can read it"),
			"secret.env", "secret.file"),
		everywhere(adapted("the text is written as it was filled"), "file.fill", "script.fill"),
		everywhere(leftOut("they matter to Windows on hypervisors alone"), "image.drivers"),
		onUnix(adapted("root gets the keys of all administrators; it has no password here, so by-any-way is by-key"),
			"ssh.root_login"),
		onUnix(adapted("a script of the administrator's starts it with su"), "script.run_as"),
		onUnix(adapted("the hypervisor's helper as a package"), "first_boot.guest_tools"),
		onUnix(adapted(packageManager), "package_source.url", "package_source.key"),
	)
}

// byClass has the rows whose verdict differs between Linux and FreeBSD, or is special
// on Windows.
func byClass() []row {
	const (
		lastScript = "a last script enables and starts them"
		sudo       = "without-password becomes a sudo rule, with-password membership of the administrators' group"
		hashed     = "the password is hashed with SHA-512 (crypt)"
		boothook   = "a script that starts with #cloud-boothook becomes a part of a MIME archive, every other one a file"
		folders    = "scripts are in cloud-init's folders; at first boot, it runs those of every boot before those " +
			"that run once"
	)
	return []row{
		{"machine.keyboard", carried, leftOut("cloud-init does not set it on FreeBSD"), leftOut(notOnWindows)},
		{"disk.filesystem", carried, adapted("every file system but zfs becomes UFS, which newfs creates on an empty disk"),
			leftOut(notOnWindows)},
		{"disk.mount", carried, adapted("mounted by its label below /dev/ufs, or as a pool of that name"), leftOut(notOnWindows)},
		{"first_boot.swap", carried, leftOut("cloud-init does not create swap on FreeBSD"), leftOut(notOnWindows)},
		{"first_boot.services", adapted(lastScript), adapted(lastScript),
			adapted("a last PowerShell script sets and starts them")},
		{"user.admin", adapted(sudo), adapted(sudo + "; sudo is installed for it, and the group is wheel"),
			adapted("both kinds become membership of Administrators")},
		{"user.password", adapted(hashed), adapted(hashed),
			adapted("it is in the first-boot data in the clear, since Windows accepts no hash")},
		{"script.text", adapted(boothook), adapted(boothook),
			adapted("each script is a part of a MIME archive, run by PowerShell or, if it starts with @echo, by cmd")},
		{"script.when", adapted(folders), adapted(folders),
			adapted("scripts of every boot become a scheduled task at startup")},
		{"package_source.suite", adapted(packageManager), leftOut(onlyAPT), leftOut(notOnWindows)},
		{"package_source.key_name", leftOut(onlyAPK), leftOut(onlyAPK), leftOut(notOnWindows)},
		{"package_source.components", adapted(packageManager), leftOut(onlyAPT), leftOut(notOnWindows)},
	}
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
	if system.Family.PackageManager == "apk" {
		fates = append(fates, render.Carry("package_source.key_name")...)
	}
	return fates
}

// CloudFates returns the fates of the fields that only a cloud can act on, for
// targets that aren't clouds.
func CloudFates() []render.Fate {
	return render.LeaveOut("only a cloud can act on it",
		"machine.labels", "machine.public_address", "machine.names",
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
		render.LeaveOut("the platform that starts the machine has to hold it; targets for hypervisors and clouds do",
			"machine.firewall", "allowance.port", "allowance.from"),
		render.Adapt("it decides under which name the system finds the disk", "disk.bus"),
		render.Adapt("the machine mounts it; the host has to share it under the name of the share",
			"share.machine", "share.read_only"),
		render.Adapt("it marks what stavren writes in the machine", "fleet.fleet"),
		render.LeaveOut("a note for people, which the machine does not need", "fleet.about", "machine.about"),
		Fates(),
	)
}
