package check

import (
	"fmt"
	"path"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

var shareOfHome = Rule{
	Rule: finding.Rule{
		Name: "share-of-home", Severity: finding.Warning, Theme: "shares",
		Why:   "A whole home folder is shared into the machine, with the private keys and passwords in it. Whoever gets into the machine gets them.",
		Wrong: example("  almanac: {image: bookworm, shares: {home: {host: /home/mira, machine: /srv/home}}}\n"),
		Right: example("  almanac: {image: bookworm, shares: {charts: {host: /home/mira/charts, machine: /srv/charts}}}\n"),
	},
	machine: func(p *pass, _ *fleet.Fleet, m *fleet.Machine) {
		for _, share := range m.Shares {
			if holdsKeys(share.Host) {
				p.report(share.PlaceOf("host"), machinePath(m, "shares", share.Name, "host"),
					fmt.Sprintf("machine %s is given the folder %s, which holds private keys", m.Name, share.Host), "share a folder below it that holds only what the machine needs")
			}
		}
	},
}

// holdsKeys recognises whole homes and the folders where programs keep private
// keys.
func holdsKeys(folder string) bool {
	clean := path.Clean(folder)
	switch clean {
	case "/", "/root", "/home", "/Users", "/etc", "~":
		return true
	}
	parent, base := path.Split(clean)
	if base == ".ssh" || base == ".gnupg" || base == ".aws" || base == ".kube" {
		return true
	}
	parent = strings.TrimSuffix(parent, "/")
	return parent == "/home" || parent == "/Users"
}
