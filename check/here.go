package check

import (
	"fmt"
	"slices"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// The rules here compare a fleet with the host that was looked at; without one
// they find nothing. Their examples say only what the definition says, since the
// other half is the host.

var hostPortInUse = Rule{
	Rule: finding.Rule{
		Name: "host-port-in-use", Severity: finding.Error, Theme: "this host",
		Why: "Another program on this host has the port now. The machine does not start, or starts without it. A machine that runs already has its own ports.",
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		host := p.options.Host
		if host == nil {
			return
		}
		look := func(protocol fleet.Protocol, number int, place fleet.Place, path string) {
			for _, socket := range host.Listening {
				if socket.Protocol == protocol && socket.Port == number {
					p.report(place, path, fmt.Sprintf("port %d/%s of this host, which machine %s is to have, is in use now", number, protocol, m.Name),
						fmt.Sprintf("find out who has it with `ss -lnp 'sport = :%d'`, or write another port", number))
					return
				}
			}
		}
		for _, port := range m.Ports {
			look(port.Protocol, port.Host, placeOf(m, &port.Origins, "host"), machinePath(m, "ports", port.Name, "host"))
		}
		if m.Console.Kind == fleet.Graphical {
			look(fleet.TCP, m.Console.Port, placeOf(m, &m.Console.Origins, "port"), machinePath(m, "console", "port"))
		}
	},
}

var hostMemory = Rule{
	Rule: finding.Rule{
		Name: "host-memory-short", Severity: finding.Warning, Theme: "this host",
		Why: "The machines together ask for more memory than programs on this host can be given now.",
	},
	load: func(p *pass) {
		all := p.demand()
		if host := p.options.Host; host != nil && host.MemoryFree > 0 && all.memory > host.MemoryFree && len(p.fleets) > 0 {
			p.reportLoad("machines", fmt.Sprintf("the machines ask for %s of memory, and %s are free on this host", about(all.memory), about(host.MemoryFree)),
				"start fewer of them at once, or give them less")
		}
	},
}

var hostRoom = Rule{
	Rule: finding.Rule{
		Name: "host-disk-short", Severity: finding.Warning, Theme: "this host",
		Why: "Thin disks grow as they fill. When they have grown to what was asked, this host's disk is full, and all machines on it stop.",
	},
	load: func(p *pass) {
		all := p.demand()
		if host := p.options.Host; host != nil && host.Room > 0 && all.disk > host.Room {
			p.reportLoad("machines", fmt.Sprintf("the disks may grow to %s, and %s are free in %s", about(all.disk), about(host.Room), folderName(host.RoomAt)),
				"make room, ask for less, or render to another disk")
		}
	},
}

// reportLoad reports what concerns all machines together, at the first fleet.
func (p *pass) reportLoad(path, message, remedy string) {
	for f := range p.each() {
		p.report(f.PlaceOf("machines"), path, message, remedy)
		return
	}
}

var hostImage = Rule{
	Rule: finding.Rule{
		Name: "host-image-missing", Severity: finding.Error, Theme: "this host",
		Why: "The image that machines boot is not where the definition says.",
	},
	load: func(p *pass) {
		forHostImages(p, func(image *fleet.Image, looked fleet.HostImage) {
			if looked.Missing != "" {
				p.report(image.PlaceOf("file"), "images."+image.Name+".file", fmt.Sprintf("the file %s of image %s cannot be booted: %s", looked.Path, image.Name, looked.Missing),
					"put the image there, or write its path; it is relative to the definition")
			}
		})
	},
}

var hostImageChecksum = Rule{
	Rule: finding.Rule{
		Name: "host-image-checksum-wrong", Severity: finding.Error, Theme: "this host",
		Why: "The image is not the one whose checksum the definition gives: its download was cut short, it was changed, or a newer one has taken its place.",
	},
	load: func(p *pass) {
		forHostImages(p, func(image *fleet.Image, looked fleet.HostImage) {
			if image.SHA256 != "" && looked.SHA256 != "" && looked.SHA256 != image.SHA256 {
				p.report(image.PlaceOf("sha256"), "images."+image.Name+".sha256", fmt.Sprintf("the file %s of image %s has the checksum %s", looked.Path, image.Name, looked.SHA256),
					"fetch the image again and compare with its makers' list; correct the line only if it is the one you want")
			}
		})
	},
}

var imageWithoutChecksum = Rule{
	Rule: finding.Rule{
		Name: "image-without-checksum", Severity: finding.Advice, Theme: "this host",
		Why: "Nobody would notice that the image was cut short while it was fetched, or that somebody put another in its place.",
	},
	load: func(p *pass) {
		forHostImages(p, func(image *fleet.Image, looked fleet.HostImage) {
			if looked.Missing == "" && image.SHA256 == "" {
				p.report(image.PlaceOf("file"), "images."+image.Name, fmt.Sprintf("image %s has no checksum to compare %s with", image.Name, looked.Path),
					"add sha256: with the checksum that its makers publish")
			}
		})
	},
}

// forHostImages visits the images that were looked at and that machines boot.
func forHostImages(p *pass, visit func(*fleet.Image, fleet.HostImage)) {
	if p.options.Host == nil {
		return
	}
	for f := range p.each() {
		used := p.used(f)
		for _, image := range f.Images {
			if looked, has := p.options.Host.Images[image.Name]; has && used[use{"images", image.Name}] {
				visit(image, looked)
			}
		}
	}
}

var hostImageLarger = Rule{
	Rule: finding.Rule{
		Name: "image-larger-than-disk", Severity: finding.Error, Theme: "this host",
		Why: "The disk within the image is larger than the root disk that it is to be laid on. Its end, and with it part of its file system, would be cut off.",
	},
	machine: func(p *pass, f *fleet.Fleet, m *fleet.Machine) {
		if p.options.Host == nil {
			return
		}
		looked := p.options.Host.Images[m.Image]
		if root := m.Disks[0]; looked.VirtualSize > root.Size {
			p.report(placeOf(m, &root.Origins, "size"), machinePath(m, "disks", root.Name, "size"),
				fmt.Sprintf("the root disk of machine %s has %v, and image %s holds a disk of %v", m.Name, root.Size, m.Image, looked.VirtualSize),
				fmt.Sprintf("write size: %v or more", looked.VirtualSize))
		}
	},
}

var privateKeyMode = Rule{
	Rule: finding.Rule{
		Name: "private-key-mode", Severity: finding.Error, Theme: "this host",
		Why: "SSH refuses a private key that others can read, and says so only when you try to log in.",
	},
	load: func(p *pass) {
		if p.options.Host == nil {
			return
		}
		for f := range p.each() {
			for _, key := range f.Keys {
				for private, mode := range p.options.Host.PrivateKeys {
					if key.File == private+".pub" && mode&0o077 != 0 {
						p.report(key.PlaceOf("file"), "keys."+key.Name, fmt.Sprintf("the private key %s has mode %s, and SSH refuses it", private, fleet.FormatMode(mode)),
							"run: chmod 600 "+private)
					}
				}
			}
		}
	},
}

var hostBridge = Rule{
	Rule: finding.Rule{
		Name: "host-bridge-missing", Severity: finding.Error, Theme: "this host",
		Why: "A bridged network is on a bridge that this host does not have.",
	},
	load: func(p *pass) {
		forHostNetworks(p, func(network *fleet.Network, host *fleet.Host) {
			if network.Mode == fleet.Bridged && network.Bridge != "" && !slices.Contains(host.Bridges, network.Bridge) {
				p.report(network.PlaceOf("bridge"), "networks."+network.Name+".bridge", fmt.Sprintf("this host has no bridge %s, which network %s is on", network.Bridge, network.Name),
					"make the bridge, or name one that is there")
			}
		})
	},
}

var hostSubnet = Rule{
	Rule: finding.Rule{
		Name: "subnet-clashes-with-host", Severity: finding.Warning, Theme: "this host",
		Why: "This host is itself on a network with these addresses. Machines do not reach what lies there, and the host may not reach the machines.",
	},
	load: func(p *pass) {
		forHostNetworks(p, func(network *fleet.Network, host *fleet.Host) {
			if network.Mode == fleet.Bridged || !network.Subnet.IsValid() {
				return
			}
			for _, own := range host.Subnets {
				if own.Overlaps(network.Subnet) {
					p.report(network.PlaceOf("subnet"), "networks."+network.Name+".subnet", fmt.Sprintf("the subnet %v of network %s overlaps %v, which this host is on", network.Subnet, network.Name, own),
						"write another subnet")
					return
				}
			}
		})
	},
}

func forHostNetworks(p *pass, visit func(*fleet.Network, *fleet.Host)) {
	if p.options.Host == nil {
		return
	}
	for f := range p.each() {
		for _, network := range f.Networks {
			visit(network, p.options.Host)
		}
	}
}

var hostVirtualisation = Rule{
	Rule: finding.Rule{
		Name: "host-emulates", Severity: finding.Advice, Theme: "this host",
		Why: "Without virtualisation the processor is emulated. Machines work and are ten times slower; a first boot takes minutes.",
	},
	load: func(p *pass) {
		if host := p.options.Host; host != nil && host.Virtualisation != "" {
			p.reportLoad("machines", "machines are emulated on this host: "+host.Virtualisation, "switch virtualisation on in the firmware, or join the group kvm")
		}
	},
}

var hostTool = Rule{
	Rule: finding.Rule{
		Name: "host-tool-missing", Severity: finding.Error, Theme: "this host",
		Why: "A program that the target needs is not installed on this host.",
	},
	load: func(p *pass) {
		if p.options.Host == nil {
			return
		}
		var missing []string
		for tool, there := range p.options.Host.Tools {
			if !there {
				missing = append(missing, tool)
			}
		}
		slices.Sort(missing)
		for _, tool := range missing {
			p.reportLoad("machines", fmt.Sprintf("the program %s is not installed", tool), "install it")
		}
	},
}

// folderName says where the current folder is meant.
func folderName(folder string) string {
	if folder == "." {
		return "this folder"
	}
	return folder
}
