package check

import (
	"slices"
	"strings"
	"time"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

func imageRules() []rule {
	return []rule{
		ofFleet("system-out-of-support", finding.Warning, systemOutOfSupport),
		ofFleet("system-support-ends-soon", finding.Advice, systemSupportEndsSoon),
		ofFleet("image-without-id", finding.Warning, imageWithoutID),
		ofMachine("image-reads-less", finding.Warning, imageReadsLess),
	}
}

// daysBeforeEnd is how early the end of a system's support is reported.
const daysBeforeEnd = 90

func systemOutOfSupport(r reporter, f *fleet.Fleet) {
	r.eachEndOfLife(f, func(image *fleet.Image, system catalog.System) {
		if r.options.Today.After(system.EndOfLife) {
			r.report(finding.OfImage(image, "os"), "image %s has %s, whose support ended on %s",
				image.Name, system.Title, system.EndOfLife.Format(time.DateOnly)).
				remedy("use a supported version; the list of systems has the dates")
		}
	})
}

func systemSupportEndsSoon(r reporter, f *fleet.Fleet) {
	r.eachEndOfLife(f, func(image *fleet.Image, system catalog.System) {
		if left := system.EndOfLife.Sub(r.options.Today); left >= 0 && left <= daysBeforeEnd*24*time.Hour {
			r.report(finding.OfImage(image, "os"), "image %s has %s, whose support ends on %s",
				image.Name, system.Title, system.EndOfLife.Format(time.DateOnly)).
				remedy("plan for the next version")
		}
	})
}

// eachEndOfLife visits the images that machines boot and whose systems have an end
// of support, if today's date is known.
func (r reporter) eachEndOfLife(f *fleet.Fleet, visit func(*fleet.Image, catalog.System)) {
	if r.options.Today.IsZero() {
		return
	}
	for _, image := range f.Images {
		if system, ok := catalog.Find(f, image.OS); ok && !system.EndOfLife.IsZero() && r.used(f).Images[image.Name] {
			visit(image, system)
		}
	}
}

func imageWithoutID(r reporter, f *fleet.Fleet) {
	for _, platform := range f.Platforms {
		for _, image := range f.Images {
			if r.used(f).Images[image.Name] && !hasPair(image.IDs, platform.Name) {
				r.report(finding.OfImage(image, "ids"), "image %s does not say what %s calls it", image.Name,
					platform.Name).
					remedy("add ids: {%s: …}, or accept this if its machines never go there", platform.Name)
			}
		}
	}
}

// imageReadsLess reports what an image with nuageinit in place of cloud-init leaves out
// (nuageinit(7)). Its makers name such images so.
func imageReadsLess(r reporter, f *fleet.Fleet, m *fleet.Machine) {
	image := f.Image(m.Image)
	if image == nil || !strings.Contains(strings.ToUpper(image.File), "BASIC-CLOUDINIT") {
		return
	}
	var lost []string
	if len(m.FirstBoot.Scripts) > 0 {
		lost = append(lost, "scripts")
	}
	if len(m.FirstBoot.Services) > 0 {
		lost = append(lost, "services")
	}
	if slices.ContainsFunc(m.Disks, func(disk *fleet.Disk) bool { return disk.FileSystem != "" }) {
		lost = append(lost, "file systems of disks")
	}
	if len(m.Time.Servers) > 0 {
		lost = append(lost, "time servers")
	}
	if m.SSH.RootLogin != fleet.NoRootLogin {
		lost = append(lost, "root's login")
	}
	if len(m.Firewall) > 0 {
		lost = append(lost, "firewalls inside the machine")
	}
	if len(lost) > 0 {
		r.report(finding.OfMachine(m, "image"), "image %s reads first-boot data with nuageinit, which leaves out: %s",
			image.Name, strings.Join(lost, ", ")).
			remedy("use an image with cloud-init, such as one that the package py311-cloud-init was added to")
	}
}
