package catalog

// Family is what systems of one kind have in common.
type Family struct {
	// Name is the family's name, and Key what a definition calls it.
	Name, Key string
	// PackageManager is the command that installs packages, or empty.
	PackageManager string
	// ServiceManager is what starts services.
	ServiceManager string
	// AdminGroup is the group whose members may become the administrator.
	AdminGroup string
	// Shell is the default login shell.
	Shell string
	// RootGroup is the group of the administrator's own files.
	RootGroup string
}

// Names of the families.
const (
	Debian  = "Debian"
	RedHat  = "Red Hat"
	SUSE    = "SUSE"
	Alpine  = "Alpine"
	Arch    = "Arch"
	FreeBSD = "FreeBSD"
	Windows = "Windows"
)

var families = [...]Family{
	{Debian, "debian", "apt", "systemd", "sudo", "/bin/bash", "root"},
	{RedHat, "red-hat", "dnf", "systemd", "wheel", "/bin/bash", "root"},
	{SUSE, "suse", "zypper", "systemd", "wheel", "/bin/bash", "root"},
	{Alpine, "alpine", "apk", "openrc", "wheel", "/bin/ash", "root"},
	{Arch, "arch", "pacman", "systemd", "wheel", "/bin/bash", "root"},
	{FreeBSD, "freebsd", "pkg", "rc", "wheel", "/bin/sh", "wheel"},
	{Windows, "windows", "", "windows", "Administrators", "", ""},
}

// Families returns every family of systems.
func Families() []Family { return families[:] }

// FamilyKeys returns what definitions call the families.
func FamilyKeys() []string {
	var keys []string
	for _, family := range families {
		keys = append(keys, family.Key)
	}
	return keys
}

// familyNamed returns the family of that name, which has to be one of the constants.
func familyNamed(name string) Family {
	for _, family := range families {
		if family.Name == name {
			return family
		}
	}
	return Family{}
}

// Class is a class of families that read first-boot data in the same way.
type Class string

// The classes of families.
const (
	ClassLinux   Class = "Linux"
	ClassFreeBSD Class = "FreeBSD"
	ClassWindows Class = "Windows"
)

// Classes returns every class of families.
func Classes() []Class { return []Class{ClassLinux, ClassFreeBSD, ClassWindows} }

// Class returns the class of a family.
func (f Family) Class() Class {
	switch f.Name {
	case FreeBSD:
		return ClassFreeBSD
	case Windows:
		return ClassWindows
	}
	return ClassLinux
}

// Linux reports whether the system's kernel is Linux.
func (s System) Linux() bool { return s.Family.Class() == ClassLinux }

// Keyboard reports whether cloud-init sets the console's keyboard on the system
// (cc_keyboard, which knows four families).
func (s System) Keyboard() bool {
	switch s.Family.Name {
	case Debian, RedHat, SUSE, Arch:
		return true
	}
	return false
}
