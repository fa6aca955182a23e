// Package catalog is the data compiled into Stavren: the operating systems that
// images hold, and what each family of them calls things.
package catalog

import (
	"time"

	"stavren.example/stavren/fleet"
)

// Family is what systems of one kind have in common.
type Family struct {
	Name string
	// PackageManager is the command that installs packages.
	PackageManager string
	// ServiceManager is what starts services.
	ServiceManager string
	// AdminGroup is the group whose members may become the administrator.
	AdminGroup string
	// Shell is the login shell that users expect.
	Shell string
	// RootGroup is the group of the administrator's own files.
	RootGroup string
}

// Names of families that need more than their data says.
const (
	FreeBSD = "FreeBSD"
	Windows = "Windows"
)

// Linux reports whether the system's kernel is Linux.
func (s System) Linux() bool { return s.Family.Name != FreeBSD && s.Family.Name != Windows }

// Keyboard reports whether cloud-init sets the console's keyboard on the system
// (cc_keyboard, which knows four families).
func (s System) Keyboard() bool {
	switch s.Family.Name {
	case "Debian", "Red Hat", "SUSE", "Arch":
		return true
	}
	return false
}

// The families of systems.
var (
	debian  = Family{Name: "Debian", PackageManager: "apt", ServiceManager: "systemd", AdminGroup: "sudo", Shell: "/bin/bash", RootGroup: "root"}
	redHat  = Family{Name: "Red Hat", PackageManager: "dnf", ServiceManager: "systemd", AdminGroup: "wheel", Shell: "/bin/bash", RootGroup: "root"}
	suse    = Family{Name: "SUSE", PackageManager: "zypper", ServiceManager: "systemd", AdminGroup: "wheel", Shell: "/bin/bash", RootGroup: "root"}
	alpine  = Family{Name: "Alpine", PackageManager: "apk", ServiceManager: "openrc", AdminGroup: "wheel", Shell: "/bin/ash", RootGroup: "root"}
	arch    = Family{Name: "Arch", PackageManager: "pacman", ServiceManager: "systemd", AdminGroup: "wheel", Shell: "/bin/bash", RootGroup: "root"}
	freeBSD = Family{Name: "FreeBSD", PackageManager: "pkg", ServiceManager: "rc", AdminGroup: "wheel", Shell: "/bin/sh", RootGroup: "wheel"}
	windows = Family{Name: "Windows", PackageManager: "", ServiceManager: "windows", AdminGroup: "Administrators", Shell: "", RootGroup: ""}
)

// System is one version of an operating system.
type System struct {
	// Name is what a definition calls it, such as "debian-12".
	Name string
	// Title is its full name.
	Title  string
	Family Family
	// MinMemory and MinDisk are the least that its makers say it runs in, for a
	// server without a desktop.
	MinMemory, MinDisk fleet.Bytes
	// Login is the account that its cloud image comes with.
	Login string
	// EndOfLife is the last day with security updates from its makers at no
	// charge, long-term support included; zero for a rolling system.
	EndOfLife time.Time
	// UEFI and TPM say that it does not install without them.
	UEFI, TPM bool
}

func day(year int, month time.Month, dayOfMonth int) time.Time {
	return time.Date(year, month, dayOfMonth, 0, 0, 0, 0, time.UTC)
}

// systems is the built-in list, by family and then by age. It holds the
// versions in support and the last one out of support. Dates and needs are
// those that the makers publish, looked at in November 2026.
var systems = []System{
	{"debian-11", "Debian 11 (bullseye)", debian, 256 * fleet.MiB, 2 * fleet.GiB, "debian", day(2026, time.August, 31), false, false},
	{"debian-12", "Debian 12 (bookworm)", debian, 256 * fleet.MiB, 2 * fleet.GiB, "debian", day(2028, time.June, 30), false, false},
	{"debian-13", "Debian 13 (trixie)", debian, 256 * fleet.MiB, 3 * fleet.GiB, "debian", day(2030, time.June, 30), false, false},
	{"ubuntu-20.04", "Ubuntu 20.04 LTS", debian, 512 * fleet.MiB, 3 * fleet.GiB, "ubuntu", day(2025, time.May, 31), false, false},
	{"ubuntu-22.04", "Ubuntu 22.04 LTS", debian, 512 * fleet.MiB, 3 * fleet.GiB, "ubuntu", day(2027, time.May, 31), false, false},
	{"ubuntu-24.04", "Ubuntu 24.04 LTS", debian, 512 * fleet.MiB, 4 * fleet.GiB, "ubuntu", day(2029, time.May, 31), false, false},
	{"ubuntu-26.04", "Ubuntu 26.04 LTS", debian, 512 * fleet.MiB, 4 * fleet.GiB, "ubuntu", day(2031, time.May, 31), false, false},
	{"fedora-42", "Fedora Linux 42", redHat, 1 * fleet.GiB, 5 * fleet.GiB, "fedora", day(2026, time.May, 13), false, false},
	{"fedora-43", "Fedora Linux 43", redHat, 1 * fleet.GiB, 5 * fleet.GiB, "fedora", day(2026, time.December, 9), false, false},
	{"fedora-44", "Fedora Linux 44", redHat, 1 * fleet.GiB, 5 * fleet.GiB, "fedora", day(2027, time.June, 2), false, false},
	{"almalinux-8", "AlmaLinux 8", redHat, 1536 * fleet.MiB, 10 * fleet.GiB, "almalinux", day(2029, time.March, 1), false, false},
	{"almalinux-9", "AlmaLinux 9", redHat, 1536 * fleet.MiB, 10 * fleet.GiB, "almalinux", day(2032, time.May, 31), false, false},
	{"almalinux-10", "AlmaLinux 10", redHat, 1536 * fleet.MiB, 10 * fleet.GiB, "almalinux", day(2035, time.May, 31), false, false},
	{"opensuse-leap-15.6", "openSUSE Leap 15.6", suse, 1 * fleet.GiB, 5 * fleet.GiB, "opensuse", day(2026, time.April, 30), false, false},
	{"opensuse-leap-16.0", "openSUSE Leap 16.0", suse, 1 * fleet.GiB, 5 * fleet.GiB, "opensuse", day(2027, time.October, 31), false, false},
	{"alpine-3.20", "Alpine Linux 3.20", alpine, 128 * fleet.MiB, 1 * fleet.GiB, "alpine", day(2026, time.April, 1), false, false},
	{"alpine-3.21", "Alpine Linux 3.21", alpine, 128 * fleet.MiB, 1 * fleet.GiB, "alpine", day(2026, time.November, 1), false, false},
	{"alpine-3.22", "Alpine Linux 3.22", alpine, 128 * fleet.MiB, 1 * fleet.GiB, "alpine", day(2027, time.May, 1), false, false},
	{"alpine-3.23", "Alpine Linux 3.23", alpine, 128 * fleet.MiB, 1 * fleet.GiB, "alpine", day(2027, time.November, 1), false, false},
	{"arch", "Arch Linux", arch, 512 * fleet.MiB, 2 * fleet.GiB, "arch", time.Time{}, false, false},
	{"freebsd-13", "FreeBSD 13", freeBSD, 256 * fleet.MiB, 4 * fleet.GiB, "freebsd", day(2026, time.April, 30), false, false},
	{"freebsd-14", "FreeBSD 14", freeBSD, 256 * fleet.MiB, 4 * fleet.GiB, "freebsd", day(2028, time.November, 30), false, false},
	{"freebsd-15", "FreeBSD 15", freeBSD, 256 * fleet.MiB, 4 * fleet.GiB, "freebsd", day(2029, time.December, 31), false, false},
	{"windows-server-2012-r2", "Windows Server 2012 R2", windows, 512 * fleet.MiB, 32 * fleet.GiB, "Administrator", day(2023, time.October, 10), false, false},
	{"windows-server-2016", "Windows Server 2016", windows, 2 * fleet.GiB, 32 * fleet.GiB, "Administrator", day(2027, time.January, 12), false, false},
	{"windows-server-2019", "Windows Server 2019", windows, 2 * fleet.GiB, 32 * fleet.GiB, "Administrator", day(2029, time.January, 9), false, false},
	{"windows-server-2022", "Windows Server 2022", windows, 2 * fleet.GiB, 32 * fleet.GiB, "Administrator", day(2031, time.October, 14), false, false},
	{"windows-server-2025", "Windows Server 2025", windows, 2 * fleet.GiB, 32 * fleet.GiB, "Administrator", day(2034, time.October, 10), false, false},
	{"windows-10", "Windows 10", windows, 2 * fleet.GiB, 32 * fleet.GiB, "Admin", day(2025, time.October, 14), false, false},
	{"windows-11", "Windows 11", windows, 4 * fleet.GiB, 64 * fleet.GiB, "Admin", day(2027, time.October, 12), true, true},
}

// Systems returns the built-in list of operating systems, by family and age.
func Systems() []System { return append([]System(nil), systems...) }

// Lookup returns the system of that name.
func Lookup(name string) (System, bool) {
	for _, system := range systems {
		if system.Name == name {
			return system, true
		}
	}
	return System{}, false
}

// families are what a definition calls them.
var families = map[string]Family{
	"debian": debian, "red-hat": redHat, "suse": suse, "alpine": alpine, "arch": arch, "freebsd": freeBSD, "windows": windows,
}

// Find returns the system of that name: the definition's own, or the built-in one.
func Find(f *fleet.Fleet, name string) (System, bool) {
	own := f.System(name)
	if own == nil {
		return Lookup(name)
	}
	system := System{
		Name: own.Name, Title: own.Title, Family: families[own.Family],
		MinMemory: own.MinMemory, MinDisk: own.MinDisk, Login: own.Login, EndOfLife: own.EndOfLife,
	}
	if system.Title == "" {
		system.Title = own.Name
	}
	if system.MinMemory == 0 {
		system.MinMemory = 256 * fleet.MiB
	}
	if system.MinDisk == 0 {
		system.MinDisk = 2 * fleet.GiB
	}
	return system, true
}

// Of returns the system on the image of a machine. A machine whose image or
// system is unknown is treated as Debian 12, which check has refused by then.
func Of(f *fleet.Fleet, m *fleet.Machine) System {
	if image := f.Image(m.Image); image != nil {
		if system, ok := Find(f, image.OS); ok {
			return system
		}
	}
	standard, _ := Lookup("debian-12")
	return standard
}
