package libvirt

import (
	"fmt"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/quote"
	"stavren.example/stavren/render"
)

// steps are the commands that create networks, volumes and domains from the files.
// They run in the output folder.
func steps(job *render.Job, machines []*fleet.Machine) []render.Step {
	f := job.Fleet
	var list []render.Step
	add := func(about, format string, args ...any) {
		list = append(list, render.Step{About: about, Command: fmt.Sprintf(format, args...)})
	}
	where := quote.Shell(pool(f))
	for _, network := range usedNetworks(f, machines) {
		name := qualified(f, network.Name)
		add("create the network "+network.Name, "virsh net-define networks/%s.xml && virsh net-start %s && virsh "+
			"net-autostart %s", network.Name, name, name)
	}
	for _, m := range machines {
		image := f.Image(m.Image)
		for _, disk := range m.Disks {
			content := ""
			switch {
			case disk.IsRoot() && image != nil:
				content = inOutput(job, image.Folder, image.File)
			case disk.Start != "":
				content = inOutput(job, disk.Folder, disk.Start)
			}
			volume := volumeName(f, m, disk.Name) + ".qcow2"
			command := fmt.Sprintf("virsh vol-create %s %s/%s.volume.xml", where, m.Name, disk.Name)
			if content != "" {
				command += fmt.Sprintf(" && virsh vol-upload --pool %s %s %s && virsh pool-refresh %s && virsh "+
					"vol-resize --pool %s %s %dB",
					where, volume, quote.Shell(content), where, where, volume, int64(disk.Size))
			}
			add("create the disk "+disk.Name+" of "+m.Name, "%s", command)
		}
		seed := volumeName(f, m, "seed") + ".iso"
		add("upload the first-boot data of "+m.Name,
			`virsh vol-create-as %s %s "$(wc -c <%s/seed.iso)" --format raw && virsh vol-upload --pool %s %s %s/seed.iso`,
			where, seed, m.Name, where, seed, m.Name)
		add("define "+m.Name, "virsh define %s/domain.xml", m.Name)
		if m.Autostart {
			add("start "+m.Name+" with the host", "virsh autostart %s", qualified(f, m.Name))
		}
		add("start "+m.Name, "virsh start %s", qualified(f, m.Name))
		for i, disc := range m.Media {
			if disc.Eject {
				add("after the first boot, take out the disc "+disc.Name, "virsh change-media %s %s --eject --config",
					qualified(f, m.Name), discTarget(m, i))
			}
		}
	}
	return list
}

// inOutput returns a file's path as seen from the output folder, where steps run.
func inOutput(job *render.Job, folder, file string) string {
	path := job.Path(folder, file)
	if len(path) > 3 && path[:3] == "../" {
		return path[3:]
	}
	return path
}

// discTarget returns the target of a disc by its position among a machine's media.
// Disks on SCSI and SATA, and the seed, take the first letters of sd.
func discTarget(m *fleet.Machine, at int) string {
	letter := at + 1
	for _, disk := range m.Disks {
		if busOf(disk) != fleet.VirtIO {
			letter++
		}
	}
	return "sd" + string(rune('a'+letter%26))
}
