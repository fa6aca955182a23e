// Package cloud is what the targets for clouds share: which size a machine gets,
// which sets of firewall rules, what its user data is, and what is missing before
// it could be submitted.
package cloud

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"fmt"
	"io/fs"
	"runtime"
	"slices"
	"strings"
	"sync"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/sizing"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// Kind is one cloud.
type Kind struct {
	catalog.Platform
	// Data is how its machines find what their user data speaks of.
	Data cloudinit.Platform
	// Places are the keys of `platforms` that have to be said before anything can
	// be submitted, each with what it is.
	Places []Place
}

// Place is something that only the account's owner knows.
type Place struct {
	Key, What string
	// Needed reports whether a machine needs it; nil is every machine.
	Needed func(f *fleet.Fleet, m *fleet.Machine) bool
}

// New makes the kind of a target.
func New(target string, data cloudinit.Platform, places ...Place) Kind {
	platform, _ := catalog.LookupPlatform(target)
	return Kind{Platform: platform, Data: data, Places: places}
}

// Value is what a machine, or else the fleet, says for the platform under a key:
// region, zone, network, address_pool, or one of its settings.
func (k Kind) Value(f *fleet.Fleet, m *fleet.Machine, key string) string {
	var said []*fleet.Platform
	if m != nil {
		switch {
		case key == "region" && m.Region != "":
			return m.Region
		case key == "zone" && m.Zone != "":
			return m.Zone
		}
		for _, platform := range m.Platforms {
			if platform.Name == k.Name {
				said = append(said, platform)
			}
		}
	}
	if platform := f.Platform(k.Name); platform != nil {
		said = append(said, platform)
	}
	for _, platform := range said {
		value := map[string]string{"region": platform.Region, "zone": platform.Zone, "network": platform.Network, "address_pool": platform.AddressPool}[key]
		for _, setting := range platform.Settings {
			if setting.Key == key {
				value = setting.Value
			}
		}
		if value != "" {
			return value
		}
	}
	return ""
}

// Placeholder begins what stands in for a value that nobody said.
const Placeholder = "REPLACE-"

// Place is Value, or a placeholder that check names.
func (k Kind) Place(f *fleet.Fleet, m *fleet.Machine, key string) string {
	if value := k.Value(f, m, key); value != "" {
		return value
	}
	return Placeholder + strings.ReplaceAll(key, "_", "-")
}

// ImageID is what the platform calls a machine's image, or a placeholder.
func (k Kind) ImageID(f *fleet.Fleet, m *fleet.Machine) string {
	if image := f.Image(m.Image); image != nil {
		for _, id := range image.IDs {
			if id.Key == k.Name {
				return id.Value
			}
		}
	}
	return Placeholder + "image-" + m.Image
}

// Size is the size that a machine gets, and why in words.
func (k Kind) Size(job *render.Job, m *fleet.Machine) (sizing.Offer, string, error) {
	if job.Options.Size != nil && sizing.Named(job.Fleet, m, k.Name) == "" {
		if name := job.Options.Size(m); name != "" {
			offers, err := sizing.For(job.Fleet, m, k.Name, nil)
			for _, o := range offers {
				if o.Size.Name == name {
					return o, "the cheapest that fits", nil
				}
			}
			return sizing.Offer{}, "", err
		}
	}
	o, named, err := sizing.Choose(job.Fleet, m, k.Name, nil)
	why := "the closest fit"
	if named {
		why = "named in the definition"
	}
	return o, why, err
}

// Labels are a machine's labels as the platform takes them.
func (k Kind) Labels(m *fleet.Machine) []fleet.Pair {
	var labels []fleet.Pair
	for _, label := range m.Labels {
		if k.Name == "gce" {
			label = fleet.Pair{Key: strings.ToLower(label.Key), Value: strings.ToLower(label.Value)}
		}
		labels = append(labels, label)
	}
	return labels
}

// NameOf fits a name into what the platform takes.
func (k Kind) NameOf(name string) string { return catalog.Shorten(name, k.MaxName) }

// DiskSize is a disk's size in GiB as the platform sells it.
func (k Kind) DiskSize(disk *fleet.Disk) int { return int(k.RoundDisk(disk.Size) / fleet.GiB) }

// Primary is the interface that leads out.
func Primary(m *fleet.Machine) *fleet.NIC {
	for _, nic := range m.NICs {
		if nic.Primary {
			return nic
		}
	}
	return m.NICs[0]
}

// Payload is user data as it is submitted.
type Payload struct {
	Text       []byte
	Compressed bool
	Secret     bool
	Parts      []cloudinit.Part
}

// Base64 encodes the payload.
func (p Payload) Base64() string { return base64.StdEncoding.EncodeToString(p.Text) }

// Counted is the payload's size in bytes as the platform counts it.
func (k Kind) Counted(p Payload) int {
	if k.Encoded {
		return base64.StdEncoding.EncodedLen(len(p.Text))
	}
	return len(p.Text)
}

// UserData renders a machine's user data, compressed only if it would be too
// large otherwise and the platform and the machine's reader take it.
func (k Kind) UserData(job *render.Job, m *fleet.Machine) (Payload, error) {
	data, err := cloudinit.UserData(job, m, k.Data)
	if err != nil {
		return Payload{}, fmt.Errorf("user data: %w", err)
	}
	p := Payload{Text: data.Text, Secret: data.Secret, Parts: data.Parts}
	if k.Counted(p) <= k.Platform.UserData || !k.Compressible || catalog.Of(job.Fleet, m).Family.Name == catalog.Windows {
		return p, nil
	}
	var packed bytes.Buffer
	// No time and no name in the header, so that the same text gives the same bytes.
	writer, err := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	if err != nil {
		return Payload{}, fmt.Errorf("user data: %w", err)
	}
	if _, err := writer.Write(data.Text); err != nil {
		return Payload{}, fmt.Errorf("user data: %w", err)
	}
	if err := writer.Close(); err != nil {
		return Payload{}, fmt.Errorf("user data: %w", err)
	}
	p.Text, p.Compressed = packed.Bytes(), true
	return p, nil
}

// Prepared is what a template needs of a machine that takes time to make.
type Prepared struct {
	Size    sizing.Offer
	Payload Payload
}

// Prepare makes sizes and user data of many machines on every processor. The
// error is that of the first machine that has one.
func (k Kind) Prepare(job *render.Job, machines []*fleet.Machine) ([]Prepared, error) {
	prepared := make([]Prepared, len(machines))
	faults := make([]error, len(machines))
	var group sync.WaitGroup
	workers := runtime.GOMAXPROCS(0)
	for worker := range workers {
		group.Go(func() {
			for i := worker; i < len(machines); i += workers {
				if prepared[i].Size, _, faults[i] = k.Size(job, machines[i]); faults[i] == nil {
					prepared[i].Payload, faults[i] = k.UserData(job, machines[i])
				}
			}
		})
	}
	group.Wait()
	for i, err := range faults {
		if err != nil {
			return nil, fmt.Errorf("machine %s: %w", machines[i].Name, err)
		}
	}
	return prepared, nil
}

// HoldsSecret reports whether a machine's user data holds a secret.
func (k Kind) HoldsSecret(f *fleet.Fleet, m *fleet.Machine) bool {
	payload, err := k.UserData(WithoutSecrets(f), m)
	return err == nil && payload.Secret
}

// WithoutSecrets is a job for looking at what would be rendered: every secret is
// 64 characters that say nothing.
func WithoutSecrets(f *fleet.Fleet) *render.Job {
	return &render.Job{Fleet: f, Options: render.Options{Secrets: func(*fleet.Secret) (string, error) { return strings.Repeat("x", 64), nil }}}
}

// AdminKey is the name and text of the key that platforms with a single one are
// given: the first of the first administrator, or of anybody.
func AdminKey(f *fleet.Fleet, m *fleet.Machine) (user *fleet.User, key *fleet.Key) {
	for _, want := range []bool{true, false} {
		for _, u := range m.Users {
			if want == (u.Admin != fleet.NoAdmin) && len(u.Keys) > 0 {
				if key := f.Key(u.Keys[0]); key != nil {
					return u, key
				}
			}
		}
	}
	return nil, nil
}

// UsedKeys are the keys that some machines' administrators come with, in the
// fleet's order.
func UsedKeys(f *fleet.Fleet, machines []*fleet.Machine) []*fleet.Key {
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

// UsedNetworks are the networks that some machines are on, in the fleet's order.
func UsedNetworks(f *fleet.Fleet, machines []*fleet.Machine) []*fleet.Network {
	var networks []*fleet.Network
	for _, network := range f.Networks {
		if slices.ContainsFunc(machines, func(m *fleet.Machine) bool {
			return slices.ContainsFunc(m.NICs, func(nic *fleet.NIC) bool { return nic.Network == network.Name })
		}) {
			networks = append(networks, network)
		}
	}
	return networks
}

// LeadsOut reports whether a network has a way to the world.
func LeadsOut(network *fleet.Network) bool {
	return network.Mode == fleet.NAT || network.Mode == fleet.Bridged
}

// Mode is the mode of a file that holds a secret or does not.
func Mode(secret bool) fs.FileMode {
	if secret {
		return 0o600
	}
	return 0o644
}

// Family chooses by the family of an address or prefix.
func Family(prefix, four, six string) string {
	if strings.Contains(prefix, ":") {
		return six
	}
	return four
}

// KeyText is a public key on one line.
func KeyText(key *fleet.Key) string { return strings.TrimSpace(key.Text) }
