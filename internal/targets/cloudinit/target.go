// Package cloudinit renders first-boot data in the form that cloud-init reads:
// user-data as cloud-config, meta-data, and version 2 of its network
// configuration. Other targets pass the same data on in their own ways.
package cloudinit

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io/fs"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/render"
)

// Target renders three files per machine, into a folder of its name.
var Target = render.Target{
	Name:      "cloud-init",
	Summary:   "first-boot data that cloud-init reads, as three files per machine",
	Writes:    []string{"MACHINE/user-data", "MACHINE/meta-data", "MACHINE/network-config"},
	Fates:     allFates,
	Overrides: Overrides,
	Machine: func(job *render.Job, m *fleet.Machine) ([]render.File, error) {
		files, err := Files(job, m, Virtio)
		for i := range files {
			files[i].Name = m.Name + "/" + files[i].Name
		}
		return files, err
	},
}

// Files renders user-data, meta-data and network-config. Only the owner can read a
// file that holds a secret.
func Files(job *render.Job, m *fleet.Machine, environment Environment) ([]render.File, error) {
	userData, err := UserData(job, m, environment)
	if err != nil {
		return nil, fmt.Errorf("user-data: %w", err)
	}
	identity := userData.Identity
	if userData.Secret {
		// The id of the instance is readable by everyone on the machine and its host.
		slow, err := UserData(job.Stretched(), m, environment)
		if err != nil {
			return nil, fmt.Errorf("user-data: %w", err)
		}
		identity = slow.Identity
	}
	network, err := NetworkConfig(job.Fleet, m, environment)
	if err != nil {
		return nil, fmt.Errorf("network-config: %w", err)
	}
	// Without a new instance, cloud-init keeps the network of the first boot.
	metaData, err := MetaData(m, append(bytes.Clone(identity), network...))
	if err != nil {
		return nil, fmt.Errorf("meta-data: %w", err)
	}
	mode := fs.FileMode(0o644)
	if userData.Secret {
		mode = 0o600
	}
	return []render.File{
		{Name: "user-data", Data: userData.Text, Mode: mode},
		{Name: "meta-data", Data: metaData, Mode: 0o644},
		{Name: "network-config", Data: network, Mode: 0o644},
	}, nil
}

// MetaData returns the id of the instance. cloud-init repeats the first boot when
// the id changes, so it changes exactly when its identity does: the user data, without
// what runs at every start, and the network.
func MetaData(m *fleet.Machine, identity []byte) ([]byte, error) {
	sum := sha256.Sum256(identity)
	return encode("", mapping(
		"instance-id", fmt.Sprintf("%s-%x", m.Name, sum[:6]),
		"local-hostname", m.HostName,
	))
}
