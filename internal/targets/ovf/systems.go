package ovf

import (
	"strings"

	"stavren.example/stavren/internal/catalog"
)

// systemIDs are the names of an operating system in a descriptor: the value of
// CIM_OperatingSystem.OsType (DMTF CIM schema 2.54), which every importer reads, and
// the guest's id in the vSphere API (VirtualMachineGuestOsIdentifier), which one does.
type systemIDs struct {
	prefix, guest string
	osType        int
}

// systemsByName lists them by the beginnings of the catalogue's names. OsType has no
// value for Windows after 2016, whose newer releases take that one's drivers.
var systemsByName = [...]systemIDs{
	{"debian-11", "debian11_64Guest", 96},
	{"debian-", "debian12_64Guest", 96},
	{"ubuntu-", "ubuntu64Guest", 94},
	{"fedora-", "fedora64Guest", 101},
	{"almalinux-", "almalinux_64Guest", 80},
	{"opensuse-", "opensuse64Guest", 83},
	{"freebsd-13", "freebsd13_64Guest", 78},
	{"freebsd-", "freebsd14_64Guest", 78},
	{"windows-server-2012-r2", "windows8Server64Guest", 115},
	{"windows-server-2016", "windows9Server64Guest", 116},
	{"windows-server-2019", "windows2019srv_64Guest", 116},
	{"windows-server-2022", "windows2019srvNext_64Guest", 116},
	{"windows-server-", "windows2022srvNext_64Guest", 116},
	{"windows-10", "windows9_64Guest", 120},
	{"windows-11", "windows11_64Guest", 120},
}

// idsOf returns the names of a system: those of its release or, for one that a
// definition adds, of its family.
func idsOf(system catalog.System) systemIDs {
	for _, ids := range systemsByName {
		if strings.HasPrefix(system.Name, ids.prefix) {
			return ids
		}
	}
	switch system.Family.Name {
	case catalog.Debian:
		return systemIDs{"", "debian12_64Guest", 96}
	case catalog.RedHat:
		return systemIDs{"", "rhel9_64Guest", 80}
	case catalog.SUSE:
		return systemIDs{"", "sles15_64Guest", 85}
	case catalog.FreeBSD:
		return systemIDs{"", "freebsd14_64Guest", 78}
	case catalog.Windows:
		return systemIDs{"", "windows2019srvNext_64Guest", 116}
	}
	return systemIDs{"", "other5xLinux64Guest", 101}
}
