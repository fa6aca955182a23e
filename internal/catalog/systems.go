// Package catalog is the list of operating systems that images hold: families.go
// says what systems of a kind have in common, and systems.go lists their releases.
package catalog

import (
	"slices"
	"sync"
	"time"

	"stavren.example/stavren/fleet"
)

// System is one release of an operating system.
type System struct {
	// Name is what a definition calls it, such as "debian-12".
	Name string
	// Title is its full name.
	Title  string
	Family Family
	// MinMemory and MinDisk are the least that its makers require for a server
	// without a desktop.
	MinMemory, MinDisk fleet.Bytes
	// Login is the account that its cloud image includes.
	Login string
	// EndOfLife is the last day of free security updates from its makers, including
	// long-term support. It is zero for a rolling system.
	EndOfLife time.Time
	// UEFI and TPM report whether it needs them to install.
	UEFI, TPM bool
}

// release is one line of the list: name, title, family, least memory and disk, login,
// end of support, and whether it needs UEFI and a TPM.
type release struct {
	name, title, family string
	memory, disk        fleet.Bytes
	login               string
	// endOfLife is a date such as "2028-06-30", or empty for a rolling system.
	endOfLife string
	uefi, tpm bool
}

// releases is the built-in list, by family and then by age. It has the supported
// releases and the last unsupported one. Dates and needs are those that the makers
// published as of November 2026.
var releases = [...]release{
	{"debian-11", "Debian 11 (bullseye)", Debian, 256 * fleet.MiB, 2 * fleet.GiB, "debian", "2026-08-31", false, false},
	{"debian-12", "Debian 12 (bookworm)", Debian, 256 * fleet.MiB, 2 * fleet.GiB, "debian", "2028-06-30", false, false},
	{"debian-13", "Debian 13 (trixie)", Debian, 256 * fleet.MiB, 3 * fleet.GiB, "debian", "2030-06-30", false, false},
	{"ubuntu-20.04", "Ubuntu 20.04 LTS", Debian, 512 * fleet.MiB, 3 * fleet.GiB, "ubuntu", "2025-05-31", false, false},
	{"ubuntu-22.04", "Ubuntu 22.04 LTS", Debian, 512 * fleet.MiB, 3 * fleet.GiB, "ubuntu", "2027-05-31", false, false},
	{"ubuntu-24.04", "Ubuntu 24.04 LTS", Debian, 512 * fleet.MiB, 4 * fleet.GiB, "ubuntu", "2029-05-31", false, false},
	{"ubuntu-26.04", "Ubuntu 26.04 LTS", Debian, 512 * fleet.MiB, 4 * fleet.GiB, "ubuntu", "2031-05-31", false, false},
	{"fedora-42", "Fedora Linux 42", RedHat, 1 * fleet.GiB, 5 * fleet.GiB, "fedora", "2026-05-13", false, false},
	{"fedora-43", "Fedora Linux 43", RedHat, 1 * fleet.GiB, 5 * fleet.GiB, "fedora", "2026-12-09", false, false},
	{"fedora-44", "Fedora Linux 44", RedHat, 1 * fleet.GiB, 5 * fleet.GiB, "fedora", "2027-06-02", false, false},
	{"almalinux-8", "AlmaLinux 8", RedHat, 1536 * fleet.MiB, 10 * fleet.GiB, "almalinux", "2029-03-01", false, false},
	{"almalinux-9", "AlmaLinux 9", RedHat, 1536 * fleet.MiB, 10 * fleet.GiB, "almalinux", "2032-05-31", false, false},
	{"almalinux-10", "AlmaLinux 10", RedHat, 1536 * fleet.MiB, 10 * fleet.GiB, "almalinux", "2035-05-31", false, false},
	{"opensuse-leap-15.6", "openSUSE Leap 15.6", SUSE, 1 * fleet.GiB, 5 * fleet.GiB, "opensuse", "2026-04-30", false,
		false},
	{"opensuse-leap-16.0", "openSUSE Leap 16.0", SUSE, 1 * fleet.GiB, 5 * fleet.GiB, "opensuse", "2027-10-31", false,
		false},
	{"alpine-3.20", "Alpine Linux 3.20", Alpine, 128 * fleet.MiB, 1 * fleet.GiB, "alpine", "2026-04-01", false, false},
	{"alpine-3.21", "Alpine Linux 3.21", Alpine, 128 * fleet.MiB, 1 * fleet.GiB, "alpine", "2026-11-01", false, false},
	{"alpine-3.22", "Alpine Linux 3.22", Alpine, 128 * fleet.MiB, 1 * fleet.GiB, "alpine", "2027-05-01", false, false},
	{"alpine-3.23", "Alpine Linux 3.23", Alpine, 128 * fleet.MiB, 1 * fleet.GiB, "alpine", "2027-11-01", false, false},
	{"arch", "Arch Linux", Arch, 512 * fleet.MiB, 2 * fleet.GiB, "arch", "", false, false},
	{"freebsd-13", "FreeBSD 13", FreeBSD, 256 * fleet.MiB, 4 * fleet.GiB, "freebsd", "2026-04-30", false, false},
	{"freebsd-14", "FreeBSD 14", FreeBSD, 256 * fleet.MiB, 4 * fleet.GiB, "freebsd", "2028-11-30", false, false},
	{"freebsd-15", "FreeBSD 15", FreeBSD, 256 * fleet.MiB, 4 * fleet.GiB, "freebsd", "2029-12-31", false, false},
	{"windows-server-2012-r2", "Windows Server 2012 R2", Windows, 512 * fleet.MiB, 32 * fleet.GiB, "Administrator",
		"2023-10-10", false, false},
	{"windows-server-2016", "Windows Server 2016", Windows, 2 * fleet.GiB, 32 * fleet.GiB, "Administrator",
		"2027-01-12", false, false},
	{"windows-server-2019", "Windows Server 2019", Windows, 2 * fleet.GiB, 32 * fleet.GiB, "Administrator",
		"2029-01-09", false, false},
	{"windows-server-2022", "Windows Server 2022", Windows, 2 * fleet.GiB, 32 * fleet.GiB, "Administrator",
		"2031-10-14", false, false},
	{"windows-server-2025", "Windows Server 2025", Windows, 2 * fleet.GiB, 32 * fleet.GiB, "Administrator",
		"2034-10-10", false, false},
	{"windows-10", "Windows 10", Windows, 2 * fleet.GiB, 32 * fleet.GiB, "Admin", "2025-10-14", false, false},
	{"windows-11", "Windows 11", Windows, 4 * fleet.GiB, 64 * fleet.GiB, "Admin", "2027-10-12", true, true},
}

// system returns the release as a System. A test parses every date.
func (r release) system() System {
	endOfLife, _ := time.Parse(time.DateOnly, r.endOfLife)
	return System{r.name, r.title, familyNamed(r.family), r.memory, r.disk, r.login, endOfLife, r.uefi, r.tpm}
}

// systems is made when it is first needed, since most commands need only one.
var systems = sync.OnceValue(func() []System {
	systems := make([]System, 0, len(releases))
	for _, release := range releases {
		systems = append(systems, release.system())
	}
	return systems
})

// Systems returns the built-in list of operating systems, by family and age.
func Systems() []System { return slices.Clone(systems()) }

// Lookup returns the built-in system of that name.
func Lookup(name string) (System, bool) {
	for _, system := range systems() {
		if system.Name == name {
			return system, true
		}
	}
	return System{}, false
}

// Find returns the system of that name: the definition's own, or the built-in one.
func Find(f *fleet.Fleet, name string) (System, bool) {
	own := f.System(name)
	if own == nil {
		return Lookup(name)
	}
	system := System{
		Name: own.Name, Title: own.Title,
		MinMemory: own.MinMemory, MinDisk: own.MinDisk, Login: own.Login, EndOfLife: own.EndOfLife,
	}
	for _, family := range families {
		if family.Key == own.Family {
			system.Family = family
		}
	}
	if system.Title == "" {
		system.Title = own.Name
	}
	if system.MinMemory == 0 {
		system.MinMemory = fleet.DefaultMinMemory
	}
	if system.MinDisk == 0 {
		system.MinDisk = fleet.DefaultMinDisk
	}
	return system, true
}

// Of returns the system of a machine. If the image or its system is unknown, which
// check reports, it returns Debian 12.
func Of(f *fleet.Fleet, m *fleet.Machine) System {
	if image := f.Image(m.Image); image != nil {
		if system, ok := Find(f, image.OS); ok {
			return system
		}
	}
	system, _ := Lookup("debian-12")
	return system
}
