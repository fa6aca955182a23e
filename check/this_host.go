package check

import (
	"slices"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

// These rules compare a fleet with the host in [Options]. Without a host, they
// find nothing. They have no examples, since half of each would be the host.

func thisHostRules() []rule {
	return []rule{
		ofMachine("host-port-in-use", finding.Error, hostPortInUse),
		ofAllFleets("host-memory-short", finding.Warning, hostMemoryShort),
		ofAllFleets("host-disk-short", finding.Warning, hostDiskShort),
		ofFleet("host-image-missing", finding.Error, hostImageMissing),
		ofFleet("host-image-checksum-wrong", finding.Error, hostImageChecksumWrong),
		ofFleet("image-without-checksum", finding.Advice, imageWithoutChecksum),
		ofMachine("image-larger-than-disk", finding.Error, imageLargerThanDisk),
		ofFleet("private-key-mode", finding.Error, privateKeyMode),
		ofFleet("host-bridge-missing", finding.Error, hostBridgeMissing),
		ofFleet("subnet-clashes-with-host", finding.Warning, subnetClashesWithHost),
		ofAllFleets("host-emulates", finding.Advice, hostEmulates),
		ofAllFleets("host-tool-missing", finding.Error, hostToolMissing),
	}
}

func hostPortInUse(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	host := r.options.Host
	if host == nil {
		return
	}
	look := func(protocol fleet.Protocol, number int, at finding.Location) {
		inUse := func(s fleet.Socket) bool { return s.Protocol == protocol && s.Port == number }
		if slices.ContainsFunc(host.Listening, inUse) {
			r.report(at, "machine %s needs port %d/%s, which another program on this host is using", m.Name, number,
				protocol).
				remedy("find the program with `ss -lnp 'sport = :%d'`, or write another port", number)
		}
	}
	for _, port := range m.Ports {
		look(port.Protocol, port.Host, finding.OfPort(m, port, "host"))
	}
	if m.Console.Kind == fleet.Graphical {
		look(fleet.TCP, m.Console.Port, finding.OfConsole(m, "port"))
	}
}

// reportFirst reports what concerns all machines together, once, at the machines
// of the first fleet.
func (t together) reportFirst(format string, args ...any) draft {
	first := t.fleets[0]
	return t.of(first, nil).report(finding.OfFleet(first, "machines"), format, args...)
}

// host returns what is known of the host, or nil if there is nothing to compare.
func (t together) host() *fleet.Host {
	if len(t.fleets) == 0 {
		return nil
	}
	return t.options.Host
}

func hostMemoryShort(t together) {
	all := t.demand()
	if host := t.host(); host != nil && host.MemoryFree > 0 && all.memory > host.MemoryFree {
		t.reportFirst("the machines need %s of memory; this host has %s free", readable(all.memory),
			readable(host.MemoryFree)).
			remedy("start fewer of them at once, or give them less")
	}
}

func hostDiskShort(t together) {
	all := t.demand()
	if host := t.host(); host != nil && host.Room > 0 && all.disk > host.Room {
		folder := host.RoomAt
		if folder == "." {
			folder = "this folder"
		}
		t.reportFirst("the disks may grow to %s; %s has %s free", readable(all.disk), folder, readable(host.Room)).
			remedy("free some space, ask for less, or render to another disk")
	}
}

// eachHostImage visits the images that machines boot and that were looked for on
// the host.
func (r reporter) eachHostImage(f *fleet.Fleet, visit func(*fleet.Image, fleet.HostImage)) {
	if r.options.Host == nil {
		return
	}
	for _, image := range f.Images {
		if found, ok := r.options.Host.Images[image.Name]; ok && r.used(f).Images[image.Name] {
			visit(image, found)
		}
	}
}

func hostImageMissing(r reporter, f *fleet.Fleet) {
	r.eachHostImage(f, func(image *fleet.Image, found fleet.HostImage) {
		if found.Missing != "" {
			r.report(finding.OfImage(image, "file"), "image %s can't boot from %s: %s", image.Name, found.Path,
				found.Missing).
				remedy("put the image there, or write its path relative to the definition")
		}
	})
}

func hostImageChecksumWrong(r reporter, f *fleet.Fleet) {
	r.eachHostImage(f, func(image *fleet.Image, found fleet.HostImage) {
		if image.SHA256 != "" && found.SHA256 != "" && found.SHA256 != image.SHA256 {
			r.report(finding.OfImage(image, "sha256"), "%s, the file of image %s, has the checksum %s", found.Path,
				image.Name, found.SHA256).
				remedy("fetch the image again and compare it with its makers' list; change the line only if this " +
					"is the image you want")
		}
	})
}

func imageWithoutChecksum(r reporter, f *fleet.Fleet) {
	r.eachHostImage(f, func(image *fleet.Image, found fleet.HostImage) {
		if found.Missing == "" && image.SHA256 == "" {
			r.report(finding.OfImage(image, "file"), "image %s has no checksum to compare %s with", image.Name,
				found.Path).
				remedy("add sha256: with the checksum that its makers publish")
		}
	})
}

func imageLargerThanDisk(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	if r.options.Host == nil {
		return
	}
	found := r.options.Host.Images[m.Image]
	if root := m.Disks[0]; found.VirtualSize > root.Size {
		r.report(finding.OfDisk(m, root, "size"), "the root disk of machine %s has %v, but image %s holds a disk of %v",
			m.Name, root.Size, m.Image, found.VirtualSize).
			remedy("write size: %v or more", found.VirtualSize)
	}
}

func privateKeyMode(r reporter, f *fleet.Fleet) {
	if r.options.Host == nil {
		return
	}
	for _, key := range f.Keys {
		for private, mode := range r.options.Host.PrivateKeys {
			if key.File == private+".pub" && mode&0o077 != 0 {
				r.report(finding.OfKey(key), "the private key %s has mode %s, so SSH refuses it", private,
					fleet.FormatMode(mode)).
					remedy("run: chmod 600 %s", private)
			}
		}
	}
}

func hostBridgeMissing(r reporter, f *fleet.Fleet) {
	if r.options.Host == nil {
		return
	}
	for _, network := range f.Networks {
		if network.Mode == fleet.Bridged && network.Bridge != "" &&
			!slices.Contains(r.options.Host.Bridges, network.Bridge) {
			r.report(finding.OfNetwork(network, "bridge"),
				"network %s uses the bridge %s, which this host doesn't have", network.Name, network.Bridge).
				remedy("create the bridge, or name an existing one")
		}
	}
}

func subnetClashesWithHost(r reporter, f *fleet.Fleet) {
	if r.options.Host == nil {
		return
	}
	for _, network := range f.Networks {
		if network.Mode == fleet.Bridged || !network.Subnet.IsValid() {
			continue
		}
		for _, own := range r.options.Host.Subnets {
			if own.Overlaps(network.Subnet) {
				r.report(finding.OfNetwork(network, "subnet"),
					"the subnet %v of network %s overlaps %v, which this host is on",
					network.Subnet, network.Name, own).
					remedy("write another subnet")
				break
			}
		}
	}
}

func hostEmulates(t together) {
	if host := t.host(); host != nil && host.Virtualisation != "" {
		t.reportFirst("machines are emulated on this host: %s", host.Virtualisation).
			remedy("enable virtualisation in the firmware, or join the group kvm")
	}
}

func hostToolMissing(t together) {
	host := t.host()
	if host == nil {
		return
	}
	var missing []string
	for tool, installed := range host.Tools {
		if !installed {
			missing = append(missing, tool)
		}
	}
	slices.Sort(missing)
	for _, tool := range missing {
		t.reportFirst("the program %s is not installed", tool).remedy("install it")
	}
}
