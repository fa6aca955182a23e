package libvirt

import (
	"cmp"
	"slices"
	"strconv"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/internal/xmldoc"
	"stavren.example/stavren/render"
)

// pool returns the storage pool of the volumes: `pool` in the definition's settings
// for libvirt, or libvirt's default.
func pool(f *fleet.Fleet) string { return cmp.Or(hypervisor.ValueOf(f, "libvirt", "pool"), "default") }

func volumeName(f *fleet.Fleet, m *fleet.Machine, disk string) string {
	return qualified(f, m.Name) + "-" + disk
}

// busOf returns the bus that a disk is on. libvirt doesn't emulate NVMe, and the board
// of arm64 has no SATA.
func busOf(f *fleet.Fleet, m *fleet.Machine, disk *fleet.Disk) fleet.DiskBus {
	switch {
	case disk.Bus == fleet.NVMe:
		return fleet.VirtIO
	case disk.Bus == fleet.SATA && onARM(f, m):
		return fleet.SCSI
	}
	return disk.Bus
}

// disks attaches the disks, the seed image and the discs. Targets are named in the
// order of a bus, as libvirt's own tools do; the guest uses serials.
func disks(list *xmldoc.Element, job *render.Job, m *fleet.Machine) {
	letters := map[string]int{}
	target := func(bus fleet.DiskBus) *xmldoc.Element {
		prefix := "sd"
		if bus == fleet.VirtIO {
			prefix = "vd"
		}
		letter := string(rune('a' + letters[prefix]%26))
		if round := letters[prefix] / 26; round > 0 {
			letter = string(rune('a'+round-1)) + letter
		}
		letters[prefix]++
		return xmldoc.New("target", "dev", prefix+letter, "bus", string(bus))
	}
	order := 0
	boot := func() *xmldoc.Element {
		order++
		return xmldoc.New("boot", "order", strconv.Itoa(order))
	}
	discBoots := map[*fleet.Medium]*xmldoc.Element{}
	for _, disc := range m.Media {
		if disc.BootFirst {
			discBoots[disc] = boot()
		}
	}
	drives := fleet.SATA
	if onARM(job.Fleet, m) {
		drives = fleet.SCSI
	}
	if drives == fleet.SCSI || slices.ContainsFunc(m.Disks, func(d *fleet.Disk) bool {
		return busOf(job.Fleet, m, d) == fleet.SCSI
	}) {
		list.Add(xmldoc.New("controller", "type", "scsi", "model", "virtio-scsi"))
	}
	for _, disk := range m.Disks {
		element := xmldoc.New("disk", "type", "volume", "device", "disk").Add(
			xmldoc.New("driver", "name", "qemu", "type", "qcow2", "discard", "unmap"),
			xmldoc.New("source", "pool", pool(job.Fleet), "volume", volumeName(job.Fleet, m, disk.Name)+".qcow2"),
			target(busOf(job.Fleet, m, disk)), xmldoc.Text("serial", disk.Serial))
		if disk.IsRoot() {
			element.Add(boot())
		}
		list.Add(element)
	}
	device, bus := "disk", fleet.VirtIO
	if hypervisor.IsWindows(job.Fleet, m) {
		device, bus = "cdrom", drives
	}
	list.Add(xmldoc.New("disk", "type", "volume", "device", device).Add(
		xmldoc.New("driver", "name", "qemu", "type", "raw"),
		xmldoc.New("source", "pool", pool(job.Fleet), "volume", volumeName(job.Fleet, m, "seed")+".iso"),
		target(bus), xmldoc.New("readonly")))
	for _, disc := range m.Media {
		list.Add(xmldoc.New("disk", "type", "file", "device", "cdrom").Add(
			xmldoc.New("driver", "name", "qemu", "type", "raw"),
			xmldoc.New("source", "file", job.AbsolutePath(disc.Folder, disc.File)),
			target(drives), xmldoc.New("readonly"), discBoots[disc]))
	}
}

// volume renders one disk as a storage volume (formatstorage.html).
func volume(job *render.Job, m *fleet.Machine, disk *fleet.Disk) render.File {
	allocation := "0"
	if disk.Format == fleet.Full && !disk.IsRoot() && disk.Start == "" { // else it comes with its content
		allocation = strconv.FormatInt(int64(disk.Size), 10)
	}
	root := xmldoc.New("volume").Add(
		xmldoc.Text("name", volumeName(job.Fleet, m, disk.Name)+".qcow2"),
		xmldoc.Text("allocation", allocation, "unit", "bytes"),
		xmldoc.Text("capacity", strconv.FormatInt(int64(disk.Size), 10), "unit", "bytes"),
		xmldoc.New("target").Add(xmldoc.New("format", "type", "qcow2")),
	)
	return render.File{Name: m.Name + "/" + disk.Name + ".volume.xml", Data: root.Encode(), Mode: 0o644}
}
