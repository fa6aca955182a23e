package hypervisor

import (
	"slices"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/firewall"
	"stavren.example/stavren/render"
)

// Setting is one of the values under settings that a target for a hypervisor knows.
type Setting struct {
	// Targets are the targets that know it.
	Targets []string
	Key     string
	// Values are those that it may have; none means any.
	Values []string
	What   string
}

// Settings returns every setting.
func Settings() []Setting {
	return []Setting{
		{[]string{"qemu", "libvirt", "ovf", "bhyve"}, "firewall", []string{"none"},
			"`none` leaves firewalls out, so that every connection comes in"},
		{[]string{"libvirt"}, "pool", nil, "the storage pool of the volumes, by default `default`"},
		{[]string{"libvirt"}, "images", []string{"shared"},
			"`shared` keeps each image in the pool once, and root disks hold only what differs from it; otherwise each " +
				"is a copy"},
		{[]string{"libvirt"}, "forward", []string{"passt"},
			"`passt` forwards ports by passt, which libvirt knows from version 9.0 on if it was built with it"},
	}
}

// settings reports settings of the definition that the target doesn't know.
func (n *Needs) settings() {
	platform := n.fleet.Platform(n.Target)
	if platform == nil {
		return
	}
	for _, given := range platform.Settings {
		at := slices.IndexFunc(Settings(), func(s Setting) bool {
			return s.Key == given.Key && slices.Contains(s.Targets, n.Target)
		})
		where := finding.OfPlatform(n.fleet, n.Target, "settings")
		if at < 0 {
			var known []string
			for _, s := range Settings() {
				if slices.Contains(s.Targets, n.Target) {
					known = append(known, s.Key)
				}
			}
			n.Add("unknown-setting", finding.Warning, where, "%s has no setting %q", n.Target, given.Key).
				Remedy = "remove it, or write " + strings.Join(known, " or ")
			continue
		}
		if values := Settings()[at].Values; len(values) > 0 && !slices.Contains(values, given.Value) {
			n.Add("unknown-setting", finding.Warning, where, "the setting %s of %s can't be %q", given.Key, n.Target,
				given.Value).
				Remedy = "remove it, or write " + given.Key + ": " + strings.Join(values, " or ")
		}
	}
}

// ValueOf returns one of the definition's settings for a target, or "".
func ValueOf(f *fleet.Fleet, target, key string) string {
	if platform := f.Platform(target); platform != nil {
		for _, setting := range platform.Settings {
			if setting.Key == key {
				return setting.Value
			}
		}
	}
	return ""
}

// HoldsFirewalls reports whether a target holds the firewalls of machines, which the
// setting `firewall: none` switches off.
func HoldsFirewalls(f *fleet.Fleet, target string) bool {
	return ValueOf(f, target, "firewall") != "none"
}

// FirewallInside returns what a machine itself has to let in on a target whose networks
// refuse nothing.
func FirewallInside(target string) func(*fleet.Fleet, *fleet.Machine) ([]firewall.Opening, bool) {
	return func(f *fleet.Fleet, m *fleet.Machine) ([]firewall.Opening, bool) {
		if !HoldsFirewalls(f, target) {
			return nil, false
		}
		return firewall.Of(f, m, hostOf(f, m))
	}
}

// FirewallFates returns the fates of firewalls on targets that hold them inside the
// machine; more says what else they do, or is empty.
func FirewallFates(more string) []render.Fate {
	return render.Adapt("as rules inside the machine: nftables on Linux, pf on FreeBSD, and Windows' own firewall"+
		more+"; the setting firewall: none leaves them out", "machine.firewall", "allowance.port", "allowance.from")
}

// WithoutFirewalls returns the fate of firewalls if the definition switches them off,
// or nothing.
func WithoutFirewalls(f *fleet.Fleet, target string) []render.Fate {
	if HoldsFirewalls(f, target) {
		return nil
	}
	return render.LeaveOut("the setting firewall: none switches it off", "machine.firewall")
}
