package fleet

import (
	"io/fs"
)

// FirstBoot is what happens inside the machine when it starts for the first time.
type FirstBoot struct {
	Origins
	// Refresh fetches the package index before packages are installed.
	Refresh bool `key:"refresh"`
	// Upgrade brings every installed package up to date.
	Upgrade bool `key:"upgrade"`
	// Restart restarts the machine if the packages require it.
	Restart  bool             `key:"restart"`
	Packages []string         `key:"packages"`
	Sources  []*PackageSource `key:"sources"`
	Files    []*File          `key:"files"`
	Scripts  []*Script        `key:"scripts"`
	// Services lists services to enable and start, after the scripts.
	Services []string `key:"services"`
	// Swap is the size of a swap file, or 0 for none.
	Swap Bytes `key:"swap"`
	// GuestTools installs the hypervisor's helper inside the machine.
	GuestTools bool `key:"guest_tools"`
}

// PackageSource is a repository of packages in addition to the system's own.
type PackageSource struct {
	Origins
	Name string
	// URL is the root of the repository.
	URL string `key:"url"`
	// Suite and Components are for apt; other package managers have neither.
	Suite      string   `key:"suite"`
	Components []string `key:"components"`
	// Key is the public key that signs the packages.
	Key string `key:"key"`
	// KeyName is the name of the key's file. apk finds a key by the name that a
	// signature bears. It is empty for the source's name and .rsa.pub.
	KeyName string `key:"key_name"`
}

// File is written into the machine at first boot.
type File struct {
	Origins
	// Path is absolute, inside the machine.
	Path    string
	Content `key:"text"`
	// Fill says that the content is run through text/template.
	Fill bool        `key:"fill"`
	Mode fs.FileMode `key:"mode"`
	// Owner is "user:group".
	Owner string `key:"owner"`
}

// When says how often a script runs.
type When string

// The times at which a script runs.
const (
	Once      When = "once"
	EveryBoot When = "every-boot"
)

// Script runs inside the machine after packages have been installed.
type Script struct {
	Origins
	Name    string
	Content `key:"text"`
	// Fill says that the content is run through text/template.
	Fill bool `key:"fill"`
	When When `key:"when"`
	// RunAs is the account that it runs as, by default the administrator.
	RunAs string `key:"run_as"`
}

// Fetches says what a machine's first boot fetches from elsewhere, such as "installs
// packages", or returns "".
func (m *Machine) Fetches() string {
	switch {
	case m.FirstBoot == nil:
		return ""
	case len(m.FirstBoot.Packages) > 0:
		return "installs packages"
	case m.FirstBoot.Upgrade:
		return "upgrades its packages"
	case len(m.FirstBoot.Sources) > 0:
		return "reads package sources"
	}
	return ""
}
