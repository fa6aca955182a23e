// Package cloudinit renders first-boot data in the form that cloud-init reads:
// user-data as cloud-config, meta-data, and version 2 of its network
// configuration. Other targets carry the same data by their own ways.
package cloudinit

import (
	"crypto/sha256"
	"fmt"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/render"
)

// Target renders the three files of each machine into a folder of its name.
var Target = render.Target{
	Name:    "cloud-init",
	Summary: "first-boot data that cloud-init reads, as three files a machine",
	Writes:  []string{"MACHINE/user-data", "MACHINE/meta-data", "MACHINE/network-config"},
	Fates:   append(Fates(), hostFates...),
	Machine: func(job *render.Job, m *fleet.Machine) ([]render.File, error) {
		files, err := Files(job.Fleet, m, Virtio)
		for i := range files {
			files[i].Name = m.Name + "/" + files[i].Name
		}
		return files, err
	},
}

// Files renders user-data, meta-data and network-config.
func Files(f *fleet.Fleet, m *fleet.Machine, platform Platform) ([]render.File, error) {
	userData, err := UserData(f, m, platform)
	if err != nil {
		return nil, fmt.Errorf("user-data: %w", err)
	}
	metaData, err := MetaData(m, userData)
	if err != nil {
		return nil, fmt.Errorf("meta-data: %w", err)
	}
	network, err := NetworkConfig(f, m)
	if err != nil {
		return nil, fmt.Errorf("network-config: %w", err)
	}
	return []render.File{
		{Name: "user-data", Data: userData, Mode: 0o644},
		{Name: "meta-data", Data: metaData, Mode: 0o644},
		{Name: "network-config", Data: network, Mode: 0o644},
	}, nil
}

// MetaData names the instance. cloud-init runs the first boot again when the
// instance's id changes, so the id changes exactly when the user data does.
func MetaData(m *fleet.Machine, userData []byte) ([]byte, error) {
	sum := sha256.Sum256(userData)
	return encode("", mapping(
		"instance-id", fmt.Sprintf("%s-%x", m.Name, sum[:6]),
		"local-hostname", m.HostName,
	))
}

// Fates says what becomes of the fields that first-boot data speaks of. Targets
// that carry this data append the fates of all others.
func Fates() []render.Fate {
	fates := render.Carry(
		"machine.host_name", "machine.domain",
		"network.dns", "network.search", "network.gateway", "network.subnet",
		"nic.network", "nic.address", "nic.hardware_address",
		"disk.filesystem", "disk.label", "disk.mount",
		"user.full_name", "user.groups", "user.shell", "user.keys",
		"first_boot.refresh", "first_boot.upgrade", "first_boot.packages",
		"key.text", "file.text", "file.mode", "file.owner", "script.text",
	)
	return append(fates,
		render.Fate{Field: "image.os", Outcome: render.Adapted, How: "it chooses the administrators' group and the usual shell"},
		render.Fate{Field: "user.admin", Outcome: render.Adapted, How: "without-password becomes a sudo rule, with-password membership of the administrators' group"},
		render.Fate{Field: "script.when", Outcome: render.Adapted, How: "scripts lie in cloud-init's folders; on the first boot it runs those of every boot before those that run once"},
	)
}

// hostFates are the fields that only the host of a machine can act on.
var hostFates = func() []render.Fate {
	const host = "first-boot data says nothing about the host; use a hypervisor's or a cloud's target for it"
	const name = "a name or a note for people, which the machine does not need"
	var fates []render.Fate
	for _, field := range []string{
		"network.mode", "image.arch", "image.file", "image.sha256", "image.ids", "machine.image",
		"resources.cpus", "resources.memory", "disk.size", "disk.keep",
		"port.host", "port.machine", "port.protocol", "port.listen",
	} {
		fates = append(fates, render.Fate{Field: field, Outcome: render.LeftOut, How: host})
	}
	for _, field := range []string{"fleet.fleet", "fleet.about", "machine.about"} {
		fates = append(fates, render.Fate{Field: field, Outcome: render.LeftOut, How: name})
	}
	return fates
}()
