// Package hypervisor holds what the targets for hypervisors share: what they all
// need of a machine.
package hypervisor

import (
	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/xmldoc"
	"stavren.example/stavren/render"
)

// Needs collects what a machine lacks for one hypervisor.
type Needs struct {
	finding.Report
	// Target is the hypervisor's name in messages.
	Target  string
	fleet   *fleet.Fleet
	machine *fleet.Machine
}

// New starts the list for a machine, with the settings that the target does not know.
func New(target string, f *fleet.Fleet, m *fleet.Machine) *Needs {
	n := &Needs{Report: finding.Report{Machine: m.Name}, Target: target, fleet: f, machine: m}
	n.settings()
	return n
}

// ImageFile reports an image without a file to boot. alternative says what else
// would do, or is empty.
func (n *Needs) ImageFile(alternative string) {
	if image := n.fleet.Image(n.machine.Image); image != nil && image.File == "" {
		n.Add("image-without-file", finding.Error, finding.OfImage(image, fleet.Itself),
			"image %s has no file, and %s boots a file", image.Name, n.Target).
			Remedy = "add file: with the path of a disk image, relative to the definition" + alternative
	}
}

// AMD64 reports an image for another architecture.
func (n *Needs) AMD64() {
	if image := n.fleet.Image(n.machine.Image); image != nil && image.Arch != "amd64" {
		n.Add("architecture-of-target", finding.Error, finding.OfImage(image, "arch"),
			"image %s is for %s, but %s runs only amd64", image.Name, image.Arch, n.Target).
			Remedy = "choose an image for amd64, or render the machine for qemu or libvirt"
	}
}

// NATForPorts reports forwarded ports of a machine without a nat network.
func (n *Needs) NATForPorts() {
	if len(n.machine.Ports) > 0 && n.fleet.ForwardingNIC(n.machine) == nil {
		n.Add("port-without-nat", finding.Error, finding.OfPort(n.machine, n.machine.Ports[0], fleet.Itself),
			"machine %s forwards ports, but it is not on a nat network, which %s needs for that", n.machine.Name,
			n.Target).
			Remedy = "give it an interface on a nat network, or remove its ports"
	}
}

// Apart advises that machines on a nat network can't reach each other.
func (n *Needs) Apart(network *fleet.Network) {
	n.Add("machines-apart", finding.Advice, finding.OfNetwork(network, fleet.Itself),
		"machines on the nat network %s can't reach each other, because %s gives each one with forwarded ports a "+
			"network of its own",
		network.Name, n.Target).
		Remedy = "put those that talk to each other on an isolated or host-only network as well"
}

// TextInXML reports a text that XML can't represent.
func (n *Needs) TextInXML() {
	if !xmldoc.Holds(n.machine.About) {
		n.Add("text-not-in-xml", finding.Error, finding.OfMachine(n.machine, "about"),
			"about of machine %s has a character that XML can't represent", n.machine.Name).
			Remedy = "remove control characters from it"
	}
}

// GuestToolsInImage returns the fate of guest tools on a system whose first-boot data
// can't install them.
func GuestToolsInImage() []render.Fate {
	return render.Adapt("the channel to the helper; the image has to bring the helper itself",
		"first_boot.guest_tools")
}

// DriversOfImage returns the fate of the drivers of a prepared image of Windows.
func DriversOfImage() []render.Fate {
	return render.Adapt("they decide which models of interfaces the machine gets", "image.drivers")
}
