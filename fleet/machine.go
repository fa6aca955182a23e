package fleet

import (
	"net/netip"
	"time"
)

// Machine is a virtual machine. Kits and variants have been merged into it and, after
// [Fleet.Complete], every default is filled in.
type Machine struct {
	Origins
	Name  string
	About string `key:"about"`
	// Kits names the kits that the machine consists of, for people.
	Kits []string `key:"kits" scope:"definition"`
	// Copies is the number of machines that the definition makes of this one. Each is
	// a Machine of its own, with a number at the end of its name.
	Copies    int       `key:"copies" scope:"definition"`
	Labels    []Pair    `key:"labels"`
	Image     string    `key:"image"`
	HostName  string    `key:"host_name"`
	Domain    string    `key:"domain"`
	Resources Resources `key:"resources"`
	Disks     []*Disk   `key:"disks"`
	Media     []*Medium `key:"media"`
	NICs      []*NIC    `key:"nics"`
	Ports     []*Port   `key:"ports"`
	// PublicAddress asks a cloud for an address that the world can reach.
	PublicAddress bool `key:"public_address"`
	// Names lists further DNS names of the machine.
	Names []string `key:"names"`
	// Firewall names the firewalls that apply to the machine.
	Firewall []string `key:"firewall"`
	Users    []*User  `key:"users"`
	SSH      SSH      `key:"ssh"`
	Time     Time     `key:"time"`
	// Language is a POSIX locale such as "en_DK.UTF-8", or empty for that of the
	// image.
	Language string `key:"language"`
	// Keyboard is the layout of the console, such as "dk", or empty.
	Keyboard  string     `key:"keyboard"`
	FirstBoot *FirstBoot `key:"first_boot"`
	Shares    []*Share   `key:"shares"`
	Console   Console    `key:"console"`
	Firmware  Firmware   `key:"firmware"`
	Clock     Clock      `key:"clock"`
	// Autostart starts the machine with its host, AutostartDelay later.
	Autostart      bool          `key:"autostart"`
	AutostartDelay time.Duration `key:"autostart_delay"`
	// WhenStopped says what becomes of a machine that stops itself.
	WhenStopped WhenStopped `key:"when_stopped"`
	Region      string      `key:"region"`
	Zone        string      `key:"zone"`
	// Interruptible asks for cheaper capacity that the cloud may take back.
	Interruptible bool        `key:"interruptible"`
	Identity      Identity    `key:"identity"`
	Platforms     []*Platform `key:"platforms"`
	// Accept lists the rules that the machine breaks on purpose, and why.
	Accept []Pair `key:"accept" scope:"definition"`
}

// FullName is the host name with its domain, if it has one.
func (m *Machine) FullName() string {
	if m.Domain == "" {
		return m.HostName
	}
	return m.HostName + "." + m.Domain
}

// Priority is a share of the host's processors when they are scarce.
type Priority string

// The priorities of the language.
const (
	Low    Priority = "low"
	Normal Priority = "normal"
	High   Priority = "high"
)

// Resources is the machine's share of its host.
type Resources struct {
	Origins
	// CPUs is the number of virtual processors.
	CPUs int `key:"cpus"`
	// Memory is the machine's main memory.
	Memory   Bytes    `key:"memory"`
	Priority Priority `key:"priority"`
}

// SSH says who may log in over SSH other than with a user's key.
type SSH struct {
	Origins
	RootLogin     RootLogin `key:"root_login"`
	PasswordLogin bool      `key:"password_login"`
}

// RootLogin says how root may log in over SSH.
type RootLogin string

// The ways for root to log in.
const (
	NoRootLogin       RootLogin = "no"
	RootLoginByKey    RootLogin = "by-key"
	RootLoginByAnyWay RootLogin = "by-any-way"
)

// Time is the machine's time zone and time servers.
type Time struct {
	Origins
	// Zone is an entry of the IANA time zone database, such as "Atlantic/Faroe".
	Zone string `key:"zone"`
	// Servers lists NTP servers. If it is empty, the image's own apply.
	Servers []string `key:"servers"`
}

// ConsoleKind is how a machine's console is reached.
type ConsoleKind string

// The consoles of the language.
const (
	Headless  ConsoleKind = "headless"
	Serial    ConsoleKind = "serial"
	Graphical ConsoleKind = "graphical"
)

// ConsoleProtocol carries a graphical console.
type ConsoleProtocol string

// The protocols of graphical consoles.
const (
	VNC   ConsoleProtocol = "vnc"
	SPICE ConsoleProtocol = "spice"
)

// Console is the machine's screen and keyboard.
type Console struct {
	Origins
	Kind     ConsoleKind     `key:"kind"`
	Protocol ConsoleProtocol `key:"protocol"`
	// Listen is the host's address that accepts viewers.
	Listen netip.Addr `key:"listen"`
	// Port is the host's port. If it is 0 and the console is graphical,
	// [Fleet.Complete] chooses it.
	Port int `key:"port"`
	// Auto says that the port is chosen, not given.
	Auto bool
	// Resolution is the screen's width and height, such as "1920x1080".
	Resolution string `key:"resolution"`
	// Password names the secret that viewers have to enter, or is empty.
	Password string `key:"password"`
}

// FirmwareKind is what starts the boot loader.
type FirmwareKind string

// The kinds of firmware.
const (
	BIOS FirmwareKind = "bios"
	UEFI FirmwareKind = "uefi"
)

// Firmware is what the machine boots with.
type Firmware struct {
	Origins
	Kind       FirmwareKind `key:"kind"`
	SecureBoot bool         `key:"secure_boot"`
	// TPM gives the machine an emulated trusted platform module, version 2.0.
	TPM bool `key:"tpm"`
}

// Clock is what the machine's hardware clock is set to.
type Clock string

// The clocks of the language.
const (
	UTC   Clock = "utc"
	Local Clock = "local"
)

// WhenStopped says what becomes of a machine that stops itself.
type WhenStopped string

// What may become of it.
const (
	KeepStopped   WhenStopped = "keep"
	RemoveStopped WhenStopped = "remove"
)

// Identity is the platform account that the machine acts as.
type Identity struct {
	Origins
	Account string `key:"account"`
	// Scopes limits what it may do, in the platform's own terms.
	Scopes []string `key:"scopes"`
}

// Share shows a folder of the host inside the machine.
type Share struct {
	Origins
	Name string
	// Host is the folder on the host, relative to the definition or absolute.
	Host string `key:"host"`
	// Machine is where it appears inside.
	Machine  string `key:"machine"`
	ReadOnly bool   `key:"read_only"`
	// Folder is the folder of the definition that names Host.
	Folder string
}
