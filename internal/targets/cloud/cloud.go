// Package cloud holds what the targets for clouds share: choosing a machine's
// size, making firewall sets, preparing user data, and reporting what is missing
// before anything can be submitted. What differs from cloud to cloud is in a
// [Cloud] value in the package of each; no platform's name appears here.
package cloud

import (
	"io/fs"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/sizing"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// Cloud describes a platform: its limits and rules, as its public documentation
// gives them.
type Cloud struct {
	// Name is the name of the target, and Title the platform's own.
	Name, Title string
	Names       Names
	Labels      Labels
	// ReservedLogins are accounts that the platform refuses to create.
	ReservedLogins []string
	// KeyTypes are the types of keys that the platform takes, and WindowsKeyTypes those that
	// it takes for Windows; none means any.
	KeyTypes, WindowsKeyTypes []string
	// AssignsAddress reports whether the platform gives an interface the address that the
	// definition asks for. It is nil if it always does.
	AssignsAddress func(c *Cloud, f *fleet.Fleet, m *fleet.Machine, nic *fleet.NIC) bool
	// WindowsHostName is the longest host name of a Windows machine in characters,
	// or 0 if the platform has no limit of its own.
	WindowsHostName int
	FirstBoot       FirstBoot
	Disks           sizing.Disks
	// Sizes is a CSV file of public sizes, as [sizing.ReadSizes] reads it. It is
	// empty if each account has sizes of its own, which the definition lists.
	Sizes string
	// Settings are the values that a definition can give under the platform's name.
	Settings []Setting
	// SettingPrefix begins the keys of settings that go by a name of the definition, or is
	// empty.
	SettingPrefix string
	// ImageID is an example of what the platform calls an image.
	ImageID string

	// JoinsNetworks says that networks that lead out are the platform's own, so that those of
	// a definition are one there unless each names another.
	JoinsNetworks bool
	// ClosedInside says that machines without a public address reach nothing outside, unless
	// the network that they are put on has a gateway of its own.
	ClosedInside bool
	// OneInterface says that a machine has only its primary interface here.
	OneInterface bool
	// ReadsWindows says that the platform's own images of Windows read first-boot data in the
	// form of cloud-config.
	ReadsWindows bool

	market *sizing.Market
}

// FirstBoot describes how a platform passes user data to its machines.
type FirstBoot struct {
	// Limit is the most user data in bytes.
	Limit int
	// Base64 says that the limit applies to the data in base64, and CompressedBase64 that it
	// does for compressed data alone.
	Base64, CompressedBase64 bool
	// Beside returns how much of the limit a machine's other metadata take. It may be nil.
	Beside func(f *fleet.Fleet, m *fleet.Machine) int
	// Compressible says that machines take compressed user data.
	Compressible bool
	// WindowsScript turns a PowerShell script into the user data that the platform's own
	// images of Windows run. It is nil if they read the form of cloud-config, or nothing.
	WindowsScript func(script string) string
	// Environment is where machines find what their user data refers to.
	Environment cloudinit.Environment
}

// Setting is a value that a definition can give under a platform's name: region,
// zone, network and address_pool, or any name under settings.
type Setting struct {
	// Key is its name. What says what it is, for messages and documentation.
	Key, What string
	// Needed reports whether a machine can't be submitted without it. It is nil for
	// an optional setting.
	Needed func(f *fleet.Fleet, m *fleet.Machine) bool
}

// Always is the Needed of a setting that every machine needs.
func Always(*fleet.Fleet, *fleet.Machine) bool { return true }

// New returns a cloud that is ready to use.
func New(c Cloud) *Cloud {
	c.market = sizing.NewMarket(c.Name, c.Sizes, c.Disks)
	return &c
}

// Market returns what the platform sells.
func (c *Cloud) Market() *sizing.Market { return c.market }

// IsBuiltIn reports whether a key under the platform's name is part of the
// language, rather than one of its settings.
func IsBuiltIn(key string) bool {
	switch key {
	case "region", "zone", "network", "address_pool":
		return true
	}
	return false
}

// Value returns what a machine, or else the fleet, gives for a setting of the
// platform. What is given for the platform comes before a machine's own region and zone,
// which are for all. m may be nil.
func (c *Cloud) Value(f *fleet.Fleet, m *fleet.Machine, key string) string {
	if value := c.special(f, m, key); value != "" || m == nil {
		return value
	}
	switch key {
	case "region":
		return m.Region
	case "zone":
		return m.Zone
	}
	return ""
}

// special returns what a machine, or else the fleet, gives for this platform alone.
func (c *Cloud) special(f *fleet.Fleet, m *fleet.Machine, key string) string {
	var given []*fleet.Platform
	if m != nil {
		for _, platform := range m.Platforms {
			if platform.Name == c.Name {
				given = append(given, platform)
			}
		}
	}
	if platform := f.Platform(c.Name); platform != nil {
		given = append(given, platform)
	}
	for _, platform := range given {
		if value := settingOf(platform, key); value != "" {
			return value
		}
	}
	return ""
}

func settingOf(platform *fleet.Platform, key string) string {
	for _, setting := range platform.Settings {
		if setting.Key == key {
			return setting.Value
		}
	}
	switch key {
	case "region":
		return platform.Region
	case "zone":
		return platform.Zone
	case "network":
		return platform.Network
	case "address_pool":
		return platform.AddressPool
	}
	return ""
}

// Placeholder starts the text that stands for a value that the definition does not
// give.
const Placeholder = "REPLACE-"

// ValueOrPlaceholder is Value, or a placeholder that check reports.
func (c *Cloud) ValueOrPlaceholder(f *fleet.Fleet, m *fleet.Machine, key string) string {
	if value := c.Value(f, m, key); value != "" {
		return value
	}
	return Placeholder + strings.ReplaceAll(key, "_", "-")
}

// ImageOf returns what the platform calls a machine's image, or a placeholder.
func (c *Cloud) ImageOf(f *fleet.Fleet, m *fleet.Machine) string {
	if image := f.Image(m.Image); image != nil {
		for _, id := range image.IDs {
			if id.Key == c.Name {
				return id.Value
			}
		}
	}
	return Placeholder + "image-" + m.Image
}

// SizeOf returns the size that a machine gets, and why, in words.
func (c *Cloud) SizeOf(job *render.Job, m *fleet.Machine) (offer sizing.Offer, why string, err error) {
	if job.Options.Size != nil && sizing.Named(job.Fleet, m, c.Name) == "" {
		if name := job.Options.Size(m); name != "" {
			offers, err := sizing.Fit(job.Fleet, m, c.market, nil)
			for _, o := range offers {
				if o.Size.Name == name {
					return o, "the cheapest that fits", nil
				}
			}
			return sizing.Offer{}, "", err
		}
	}
	offer, named, err := sizing.Choose(job.Fleet, m, c.market, nil)
	if named {
		return offer, "named in the definition", err
	}
	return offer, "the closest fit", err
}

// DiskSize returns a disk's size in GiB as the platform sells it.
func (c *Cloud) DiskSize(f *fleet.Fleet, m *fleet.Machine, disk *fleet.Disk) int {
	return int(c.Disks.Round(catalog.Of(f, m), disk) / fleet.GiB)
}

// Primary returns the interface that leads out.
func Primary(m *fleet.Machine) *fleet.NIC {
	for _, nic := range m.NICs {
		if nic.Primary {
			return nic
		}
	}
	return m.NICs[0]
}

// AdminKey returns the key that a platform with room for only one gets: the first
// of the first administrator, or else of any user. Both are nil without a key.
func AdminKey(f *fleet.Fleet, m *fleet.Machine) (user *fleet.User, key *fleet.Key) {
	for _, isAdmin := range []bool{true, false} {
		for _, u := range m.Users {
			if isAdmin == (u.Admin != fleet.NoAdmin) && len(u.Keys) > 0 {
				if key := f.Key(u.Keys[0]); key != nil {
					return u, key
				}
			}
		}
	}
	return nil, nil
}

// KeysOfAdmins returns the keys of a machine's administrators, each once: platforms make
// administrators of those whose keys they are given.
func KeysOfAdmins(f *fleet.Fleet, m *fleet.Machine) []*fleet.Key {
	var keys []*fleet.Key
	for _, user := range m.Users {
		for _, name := range user.Keys {
			if key := f.Key(name); user.Admin != fleet.NoAdmin && key != nil && !slices.Contains(keys, key) {
				keys = append(keys, key)
			}
		}
	}
	return keys
}

// AdminKeys returns the keys that [AdminKey] returns for some machines, in the
// order of the fleet.
func AdminKeys(f *fleet.Fleet, machines []*fleet.Machine) []*fleet.Key {
	used := map[*fleet.Key]bool{}
	for _, m := range machines {
		if _, key := AdminKey(f, m); key != nil {
			used[key] = true
		}
	}
	var keys []*fleet.Key
	for _, key := range f.Keys {
		if used[key] {
			keys = append(keys, key)
		}
	}
	return keys
}

// UsedNetworks returns the networks that some machines are on, in the order of the
// fleet.
func UsedNetworks(f *fleet.Fleet, machines []*fleet.Machine) []*fleet.Network {
	used := f.UsedBy(machines).Networks
	var networks []*fleet.Network
	for _, network := range f.Networks {
		if used[network.Name] {
			networks = append(networks, network)
		}
	}
	return networks
}

// LeadsOut reports whether a network has a route to the world.
func LeadsOut(network *fleet.Network) bool {
	return network.Mode == fleet.NAT || network.Mode == fleet.Bridged
}

// Mode returns the mode of a file that holds a secret or doesn't.
func Mode(secret bool) fs.FileMode {
	if secret {
		return 0o600
	}
	return 0o644
}

// ByFamily returns one of two texts by the family of an address or prefix.
func ByFamily(prefix, four, six string) string {
	if strings.Contains(prefix, ":") {
		return six
	}
	return four
}

// KeyText returns a public key on one line.
func KeyText(key *fleet.Key) string { return strings.TrimSpace(key.Text) }
