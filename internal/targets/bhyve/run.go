package bhyve

import (
	"bytes"
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
	Routes             bool
	Reach              []string
	// Removed are the disks that go when the machine is removed, and Kept those that stay.
	Removed, Kept []string
}

type disk struct {
	Name  string
	Size  int64
	Full  string
	Image string
}

type networkInterface struct{ Tap, Bridge, Address string }

// bridgeName returns the name of a bridge of the host: the one that a bridged network
// names, or one of the fleet's own. It has at most fifteen characters, like every
// interface.
func bridgeName(f *fleet.Fleet, network *fleet.Network) string {
	if network.Mode == fleet.Bridged && network.Bridge != "" {
		return network.Bridge
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
	r := run{About: quote.Comment("#", m.About), Name: m.Name, Image: quote.Shell(job.Path(image.Folder, image.File))}
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
	for i, nic := range m.NICs {
		network := f.Network(nic.Network)
		if network == nil {
			return nil, fmt.Errorf("network %q is not defined", nic.Network)
		}
		address := ""
		if network.Mode == fleet.NAT && network.Gateway.IsValid() && network.Subnet.IsValid() {
			address = netip.PrefixFrom(network.Gateway, network.Subnet.Bits()).String()
			r.Routes = true
		}
		r.Interfaces = append(r.Interfaces, networkInterface{tapName(m, i), quote.Shell(bridgeName(f, network)),
			address})
	}
	for _, port := range m.Ports {
		r.Reach = append(r.Reach, quote.Shell(fmt.Sprintf("%s: %s on %s, port %d/%s, once ports.pf.conf is loaded",
			m.Name, port.Name, port.Listen, port.Host, port.Protocol)))
	}
	var script bytes.Buffer
	if err := runTemplate().Execute(&script, r); err != nil {
		return nil, fmt.Errorf("run.sh: %w", err)
	}
	return script.Bytes(), nil
}
