package libvirt

import (
	"bytes"
	_ "embed"
	"fmt"
	"sync"
	"text/template"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/quote"
	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/render"
)

// runText is run.sh, which creates and starts everything by virsh(1).
//
//go:embed run.sh.template
var runText string

var runTemplate = sync.OnceValue(func() *template.Template { return hypervisor.Template("run.sh", runText) })

// run holds the values of the template.
type run struct {
	About, Name, Domain, Pool, Arch, Seed string
	RootImage                             string
	// Base begins the name of the volume that root disks share, or is empty.
	Base     string
	Networks []runNetwork
	Disks    []runDisk
	// Volumes are those that go when the machine is removed, and Kept those that stay.
	Volumes, Kept []string
	// Ejects are the drives whose discs are taken out after the first start.
	Ejects    []string
	Autostart bool
	// Filtered says that libvirt holds the machine's firewalls, in filter.xml.
	Filtered bool
	Reach    []string
}

type runNetwork struct{ Qualified, File string }

type runDisk struct {
	Name, Volume, Full, Image string
	Size                      int64
}

func runScript(job *render.Job, m *fleet.Machine) ([]byte, error) {
	f := job.Fleet
	image := f.Image(m.Image)
	if image == nil {
		return nil, fmt.Errorf("image %q is not defined", m.Image)
	}
	arch, _ := architectureOf(image.Arch)
	seed := volumeName(f, m, "seed") + ".iso"
	r := run{
		About: quote.Comment("#", m.About), Name: m.Name, Domain: qualified(f, m.Name), Pool: quote.Shell(pool(f)),
		Arch: arch, Seed: seed, Autostart: m.Autostart, Volumes: []string{seed}, Reach: hypervisor.Ways(f, m),
		Filtered: hasFilter(f, m),
	}
	if image.File != "" {
		r.RootImage = quote.Shell(job.Path(image.Folder, image.File))
	}
	for _, network := range usedNetworks(f, []*fleet.Machine{m}) {
		r.Networks = append(r.Networks, runNetwork{qualified(f, network.Name), networkPath(network)})
	}
	for _, disk := range m.Disks {
		d := runDisk{Name: disk.Name, Volume: volumeName(f, m, disk.Name) + ".qcow2", Full: yesNo(disk.Format == fleet.Full),
			Size: int64(disk.Size)}
		switch {
		case disk.IsRoot() && image.File != "":
			d.Image = `"$image"`
		case disk.Start != "":
			d.Image = quote.Shell(job.Path(disk.Folder, disk.Start))
		}
		r.Disks = append(r.Disks, d)
		if disk.Keep {
			r.Kept = append(r.Kept, d.Volume)
		} else {
			r.Volumes = append(r.Volumes, d.Volume)
		}
	}
	for i, disc := range m.Media {
		if disc.Eject {
			r.Ejects = append(r.Ejects, discTarget(f, m, i))
		}
	}
	if image.File != "" && hypervisor.ValueOf(f, "libvirt", "images") == "shared" && m.Disks[0].Format != fleet.Full {
		r.Base = qualified(f, image.Name)
	}
	var script bytes.Buffer
	if err := runTemplate().Execute(&script, r); err != nil {
		return nil, fmt.Errorf("run.sh: %w", err)
	}
	return script.Bytes(), nil
}

// Root returns the root disk.
func (r run) Root() runDisk { return r.Disks[0] }
