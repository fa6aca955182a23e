package qemu

import (
	"fmt"
	"slices"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/quote"
	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/render"
)

// dataDisk is a disk that the script creates in addition to the root disk.
type dataDisk struct {
	Name, File, Start string
	Size              int64
	Full              bool
}

// medium is a disc in a drive, as options.
type medium struct {
	Blockdev, Device string
	Eject            bool
}

// share is a folder of the host.
type share struct{ Name, Path, ReadOnly string }

// deviceOf returns QEMU's name of a disk on a bus.
func deviceOf(bus fleet.DiskBus) string {
	switch bus {
	case fleet.VirtIO:
		return "virtio-blk-pci"
	case fleet.SCSI:
		return "scsi-hd"
	case fleet.SATA:
		return "ide-hd"
	case fleet.NVMe:
		return "nvme"
	}
	return ""
}

// disks attaches the root disk and the data disks, each with its serial.
func (r *run) disks(job *render.Job, m *fleet.Machine, image *fleet.Image) {
	root := m.Disks[0]
	r.RootSize, r.RootTitle, r.RootFull = int64(root.Size), root.Size.String(), root.Format == fleet.Full
	if image.File != "" {
		r.RootImage = quote.Shell(job.Path(image.Folder, image.File))
	}
	for _, d := range m.Disks {
		if d.Bus == fleet.SCSI {
			r.option("-device", "virtio-scsi-pci,id=scsi")
			break
		}
	}
	for _, d := range m.Disks {
		if d.Bus == fleet.SATA {
			r.sata()
			break
		}
	}
	first := 0
	for _, d := range m.Media {
		if d.BootFirst {
			first = len(m.Media)
		}
	}
	sata := 0
	for i, d := range m.Disks {
		file, node := d.Name+".qcow2", fmt.Sprintf("disk%d", i)
		if d.Keep {
			r.Kept = append(r.Kept, file)
		} else {
			r.Removed = append(r.Removed, file)
		}
		r.option("-blockdev",
			"driver=qcow2,node-name="+node+",discard=unmap,file.driver=file,file.filename="+quote.QEMU(file))
		device := deviceOf(d.Bus) + ",drive=" + node + ",serial=" + quote.QEMU(d.Serial)
		switch d.Bus {
		case fleet.SCSI:
			device += ",bus=scsi.0"
		case fleet.SATA:
			device += fmt.Sprintf(",bus=sata.%d", sata)
			sata++
		}
		if d.IsRoot() {
			device += fmt.Sprintf(",bootindex=%d", first)
		} else {
			disk := dataDisk{Name: d.Name, File: file, Size: int64(d.Size), Full: d.Format == fleet.Full}
			if d.Start != "" {
				disk.Start = quote.Shell(job.Path(d.Folder, d.Start))
			}
			r.DataDisks = append(r.DataDisks, disk)
		}
		r.option("-device", device)
	}
	r.devices = sata
	r.hasSCSI = slices.ContainsFunc(m.Disks, func(d *fleet.Disk) bool { return d.Bus == fleet.SCSI })
	r.Seed = "virtio-blk-pci"
	if hypervisor.IsWindows(job.Fleet, m) && image.Arch != "arm64" {
		r.Seed = r.drive(image.Arch)
	}
}

// sataPorts is how many ports a SATA controller has (ICH9 specification, 14.1).
const sataPorts = 6

// sata adds a controller, once.
func (r *run) sata() { r.option("-device", "ich9-ahci,id=sata") }

// drive returns the device of another drive for a disc: on SATA or, since firmware of
// arm64 doesn't start from that, on SCSI.
func (r *run) drive(arch string) string {
	if arch == "arm64" {
		if !r.hasSCSI {
			r.option("-device", "virtio-scsi-pci,id=scsi")
			r.hasSCSI = true
		}
		return "scsi-cd,bus=scsi.0"
	}
	if r.devices == 0 {
		r.sata()
	}
	r.devices++
	return fmt.Sprintf("ide-cd,bus=sata.%d", r.devices-1)
}

// media puts discs into drives, after the disks of the same controller.
func (r *run) media(job *render.Job, m *fleet.Machine, image *fleet.Image) {
	for i, disc := range m.Media {
		node := fmt.Sprintf("disc%d", i)
		r.Ejects = r.Ejects || disc.Eject
		boot := ""
		if disc.BootFirst {
			boot = fmt.Sprintf(",bootindex=%d", i)
		}
		r.Media = append(r.Media, medium{
			Blockdev: quote.Shell("driver=raw,node-name=" + node + ",read-only=on,file.driver=file,file.filename=" +
				quote.QEMU(job.Path(disc.Folder, disc.File))),
			Device: fmt.Sprintf("%s,drive=%s%s", r.drive(image.Arch), node, boot),
			Eject:  disc.Eject,
		})
	}
}

// shares makes folders of the host available by virtiofs, which needs memory that the
// helper can access. Only Linux reads them.
func (r *run) shares(job *render.Job, m *fleet.Machine) {
	if !r.system.Linux() {
		return
	}
	for i, s := range m.Shares {
		readOnly := "no"
		if s.ReadOnly {
			readOnly = "yes"
		}
		r.Shares = append(r.Shares, share{s.Name, quote.Shell(job.Path(s.Folder, s.Host)), readOnly})
		r.option("-chardev", fmt.Sprintf("socket,id=share%d,path=%s.share", i, quote.QEMU(s.Name)))
		r.option("-device", fmt.Sprintf("vhost-user-fs-pci,chardev=share%d,tag=%s", i, quote.QEMU(s.Name)))
	}
}
