package bhyve

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	_ "embed"
	"fmt"
	"net/netip"
	"sync"
	"text/template"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/quote"
	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/render"
)

//go:embed run.sh.template
var runText string

var runTemplate = sync.OnceValue(func() *template.Template {
	return hypervisor.Template("run.sh", runText)
})

type run struct {
	About, Name, Image string
	Disks              []disk
	Interfaces         []networkInterface
	// Routes says that the host routes for the machine, Filters that the packet filter
	// has rules for it, and Asks that it asks the host's name server.
	Routes, Filters, Asks bool
	Reach                 []string
	// Removed are the disks that go when the machine is removed, and Kept those that stay.
	Removed, Kept []string
	// Line is the end of the serial line that people open.
	Line string
	// Headless says that no terminal is attached.
	Headless bool
}

type disk struct {
	Name  string
	Size  int64
	Full  string
	Image string
}

// networkInterface is an interface of the machine. Own says that its bridge is the
// fleet's, and not one that the host has.
type networkInterface struct {
	Tap, Bridge, Address string
	Own                  bool
}

// defaultBridge is the bridge of a bridged network that names none.
const defaultBridge = "bridge0"

// bridgeName returns the name of a bridge of the host: the one that a bridged network
// names, or one of the fleet's own. It has at most fifteen characters, like every
// interface.
func bridgeName(f *fleet.Fleet, network *fleet.Network) string {
	if network.Mode == fleet.Bridged {
		return cmp.Or(network.Bridge, defaultBridge)
	}
	sum := sha256.Sum256([]byte("bridge\x00" + f.Name + "\x00" + network.Name + "\x00"))
	name := network.Name
	if len(name) > 8 {
		name = name[:8]
	}
	return fmt.Sprintf("%s-%x", name, sum[:3])
}

func runScript(job *render.Job, m *fleet.Machine) ([]byte, error) {
	f := job.Fleet
	image := f.Image(m.Image)
	if image == nil {
		return nil, fmt.Errorf("image %q is not defined", m.Image)
	}
	_, line := nullModem(m)
	r := run{About: quote.Comment("#", m.About), Name: m.Name, Image: quote.Shell(job.Path(image.Folder, image.File)),
		Reach: ways(f, m), Filters: packetFilter(f, m) != "", Line: line, Headless: m.Console.Kind == fleet.Headless}
	for _, d := range m.Disks {
		full := "no"
		if d.Format == fleet.Full {
			full = "yes"
		}
		content := ""
		switch {
		case d.IsRoot():
			content = `"$image"`
		case d.Start != "":
			content = quote.Shell(job.Path(d.Folder, d.Start))
		}
		if d.Keep {
			r.Kept = append(r.Kept, d.Name+".img")
		} else {
			r.Removed = append(r.Removed, d.Name+".img")
		}
		r.Disks = append(r.Disks, disk{d.Name, int64(d.Size), full, content})
	}
	if err := r.interfaces(f, m); err != nil {
		return nil, err
	}
	var script bytes.Buffer
	if err := runTemplate().Execute(&script, r); err != nil {
		return nil, fmt.Errorf("run.sh: %w", err)
	}
	return script.Bytes(), nil
}

// interfaces says which bridge each interface is on, and the host's address there.
func (r *run) interfaces(f *fleet.Fleet, m *fleet.Machine) error {
	for i, nic := range m.NICs {
		network := f.Network(nic.Network)
		if network == nil {
			return fmt.Errorf("network %q is not defined", nic.Network)
		}
		address := ""
		if network.Mode == fleet.NAT || network.Mode == fleet.HostOnly {
			if host := hypervisor.HostAddress(f, network); host.IsValid() && network.Subnet.IsValid() {
				address = familyOf(host) + " " + netip.PrefixFrom(host, network.Subnet.Bits()).String()
			}
		}
		r.Routes = r.Routes || network.Mode == fleet.NAT
		r.Asks = r.Asks || asksHost(network)
		r.Interfaces = append(r.Interfaces, networkInterface{tapName(m, i), quote.Shell(bridgeName(f, network)), address,
			network.Mode != fleet.Bridged})
	}
	return nil
}
