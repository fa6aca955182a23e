package check

import (
	"path"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

func shareRules() []rule {
	return []rule{
		ofMachine("share-of-home", finding.Warning, shareOfHome),
	}
}

func shareOfHome(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	for _, share := range m.Shares {
		if holdsKeys(share.Host) {
			r.report(finding.OfShare(m, share, "host"), "machine %s gets the folder %s, which holds private keys",
				m.Name, share.Host).
				remedy("share a folder below it that holds only what the machine needs")
		}
	}
}

// holdsKeys reports whether a folder is a whole home, or one in which programs
// keep private keys.
func holdsKeys(folder string) bool {
	clean := path.Clean(folder)
	switch clean {
	case "/", "/root", "/home", "/Users", "/etc", "~":
		return true
	}
	switch path.Base(clean) {
	case ".ssh", ".gnupg", ".aws", ".kube":
		return true
	}
	parent := strings.TrimSuffix(path.Dir(clean), "/")
	return parent == "/home" || parent == "/Users"
}
