package ovf

import (
	"fmt"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/quote"
	"stavren.example/stavren/render"
)

// contentOf returns the path of what a disk starts with: a shell word, or "" for an
// empty disk. The path is relative to the machine's folder.
func contentOf(f *fleet.Fleet, m *fleet.Machine, disk *fleet.Disk) string {
	if disk.Start != "" {
		return disk.Start
	}
	if image := f.Image(m.Image); disk.IsRoot() && image != nil {
		return image.File
	}
	return ""
}

// diskFile is the disc image that the descriptor names for a disk with content.
func diskFile(disk *fleet.Disk) string { return disk.Name + ".vmdk" }

func discFile(disc *fleet.Medium) string { return disc.Name + ".iso" }

// steps bring what the descriptor names beside it: discs, and images as disks. They
// complete the manifest, or pack.
func steps(job *render.Job, machines []*fleet.Machine) []render.Step {
	var list []render.Step
	for _, m := range machines {
		for _, disc := range m.Media {
			command := fmt.Sprintf("cp %s %s", quote.Shell(job.Path(disc.Folder, disc.File)), discFile(disc))
			list = append(list, render.Step{About: "put the disc " + disc.Name + " where the descriptor of " + m.Name +
				" names it", Command: add(job, m, command, discFile(disc))})
		}
		for _, disk := range m.Disks {
			content, folder := contentOf(job.Fleet, m, disk), disk.Folder
			if content == "" {
				continue
			}
			if disk.Start == "" {
				folder = job.Fleet.Image(m.Image).Folder
			}
			// The disc's own size is what importers use, so a copy grows first.
			command := fmt.Sprintf("qemu-img convert -O qcow2 %s %[2]s.part && qemu-img resize -q %[2]s.part %d && "+
				"qemu-img convert -O vmdk -o subformat=streamOptimized %[2]s.part %[4]s && rm %[2]s.part",
				quote.Shell(job.Path(folder, content)), disk.Name, int64(disk.Size), diskFile(disk))
			about := fmt.Sprintf("make disk %s of %s, and list it in the manifest", disk.Name, m.Name)
			if job.Options.Archive {
				about = fmt.Sprintf("make disk %s of %s, and pack it", disk.Name, m.Name)
			}
			list = append(list, render.Step{About: about, Command: add(job, m, command, diskFile(disk))})
		}
	}
	return list
}

// add returns a command that makes a file in a machine's folder, and adds it to what is
// imported: the manifest, or the archive.
func add(job *render.Job, m *fleet.Machine, command, file string) string {
	if job.Options.Archive {
		return fmt.Sprintf("(cd %s && %s && tar --append --file %s.ova --format ustar %s)", m.Name, command, m.Name, file)
	}
	return fmt.Sprintf(`(cd %[1]s && %[2]s && sums=$(grep -vF '(%[3]s)=' %[1]s.mf) && `+
		`printf '%%s\nSHA256(%[3]s)= %%s\n' "$sums" "$(sha256sum %[3]s | cut -d' ' -f1)" >%[1]s.mf)`, m.Name, command, file)
}
