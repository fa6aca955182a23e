package check

import (
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
