package fleet

import (
	"io/fs"
	"time"
)

// AdminRights says what a user may do as the administrator.
type AdminRights string

// The admin rights of the language.
const (
	NoAdmin              AdminRights = "no"
	AdminWithPassword    AdminRights = "with-password"
	AdminWithoutPassword AdminRights = "without-password"
)

// User is an account that the machine is given at first boot.
type User struct {
	Origins
	Name     string
	FullName string `key:"full_name"`
	// UID is the account's number, or 0 for the next free one.
	UID    int         `key:"uid"`
	Groups []string    `key:"groups"`
	Admin  AdminRights `key:"admin"`
	// Shell is the login shell's path, or empty for the system's usual one.
	Shell string `key:"shell"`
	// Home is the home folder's path, or empty for the system's usual one.
	Home string `key:"home"`
	// Keys names the fleet's keys that may log in.
	Keys []string `key:"keys"`
	// Password names the secret that holds the password, or is empty.
	Password string `key:"password"`
	// PasswordHash is the password hashed as crypt(5) does, or empty.
	PasswordHash string `key:"password_hash"`
	// Locked forbids to log in by password.
	Locked bool `key:"locked"`
	// Expires is the last day of the account, or zero.
	Expires time.Time `key:"expires"`
}

// FirstBoot is what happens inside the machine when it starts for the first time.
type FirstBoot struct {
	Origins
	// Refresh fetches the package index before packages are installed.
	Refresh bool `key:"refresh"`
	// Upgrade brings every installed package up to date.
	Upgrade bool `key:"upgrade"`
	// Restart restarts the machine if the packages ask for it.
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

// PackageSource is where packages come from beside the system's own sources.
type PackageSource struct {
	Origins
	Name string
	// URL is the root of the repository.
	URL string `key:"url"`
	// Suite and Components are apt's; other package managers have neither.
	Suite      string   `key:"suite"`
	Components []string `key:"components"`
	// Key is the public key that the packages are signed with.
	Key string `key:"key"`
}

// File is written into the machine at first boot.
type File struct {
	Origins
	// Path is absolute, inside the machine.
	Path    string
	Content `key:"text"`
	// Fill says that the content was run through text/template.
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

// Script runs inside the machine, after packages are in.
type Script struct {
	Origins
	Name    string
	Content `key:"text"`
	// Fill says that the content was run through text/template.
	Fill bool `key:"fill"`
	When When `key:"when"`
	// RunAs is the account that it runs as, by default the administrator.
	RunAs string `key:"run_as"`
}
