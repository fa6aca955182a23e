package check

import (
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/nearest"
)

// Bookkeeping looks at what all other rules found, so it runs last.

func bookkeepingRules() []rule {
	return []rule{
		ofAllFleets("defined-and-unused", finding.Advice, definedAndUnused),
		ofAllFleets("accept-unknown", finding.Error, acceptUnknown),
		ofAllFleets("accept-unused", finding.Advice, acceptUnused),
	}
}

func definedAndUnused(t together) {
	for _, found := range t.findings {
		if strings.HasPrefix(found.Rule, "unknown-") {
			return // what looks unused was most likely meant there
		}
	}
	for _, f := range t.fleets {
		if len(f.Machines) > 0 { // else it exists for other definitions to use
			reportUnused(t.of(f, nil), f)
		}
	}
}

func reportUnused(r reporter, f *fleet.Fleet) {
	used := r.used(f)
	look := func(uses map[string]bool, section, name string, at finding.Location) {
		// A definition isn't responsible for what another one contributed.
		if uses[name] || !at.Place.IsValid() || at.Place.File != f.PlaceOf(fleet.Itself).File {
			return
		}
		r.report(at, "%s is defined under %s but never used", name, section).
			remedy("remove it, or check the names where it was meant")
	}
	for _, image := range f.Images {
		look(used.Images, "images", image.Name, finding.OfImage(image, fleet.Itself))
	}
	// What firewalls let connect is used as well, though no machine needs it.
	peers := map[fleet.Peer]bool{}
	eachAllowance(f, func(_ *fleet.Firewall, _ int, allow *fleet.Allowance) {
		for _, peer := range allow.FromNames {
			peers[peer] = true
		}
	})
	for _, network := range f.Networks {
		if peers[fleet.Peer{Kind: fleet.PeerNetwork, Name: network.Name}] {
			continue
		}
		look(used.Networks, "networks", network.Name, finding.OfNetwork(network, fleet.Itself))
	}
	for _, key := range f.Keys {
		at := finding.Location{Place: key.PlaceOf(fleet.Itself), Path: "keys." + key.Name}
		look(used.Keys, "keys", key.Name, at)
	}
	for _, secret := range f.Secrets {
		look(used.Secrets, "secrets", secret.Name, finding.OfSecret(secret, fleet.Itself))
	}
	for _, firewall := range f.Firewalls {
		look(used.Firewalls, "firewalls", firewall.Name, finding.OfFirewall(firewall, fleet.Itself))
	}
}

// eachAcceptance visits every accept line of all fleets.
func (t together) eachAcceptance(visit func(r reporter, at finding.Location, rule string)) {
	for _, f := range t.fleets {
		for _, pair := range f.Accept {
			visit(t.of(f, nil), finding.OfAccepted(f, pair.Key), pair.Key)
		}
	}
	for f, m := range t.machines() {
		for _, pair := range m.Accept {
			visit(t.of(f, m), finding.OfMachineEntry(m, "accept", pair.Key), pair.Key)
		}
	}
}

func acceptUnknown(t together) {
	t.eachAcceptance(func(r reporter, at finding.Location, name string) {
		known, ok := t.lookUp(name)
		switch {
		case !ok:
			r.report(at, "the rule %q does not exist, so it can't be accepted", name).
				remedy("%s", r.once("a rule", name, "see the rule book", func() string {
					return nearest.Remedy(name, namesOf(t.book, func(entry rule) string { return entry.name }))
				}))
		case known.severity == finding.Error && known.theme != targets:
			r.report(at, "the rule %s is an error and can't be accepted", name).
				remedy("fix what breaks it, and remove this line")
		}
	})
}

func acceptUnused(t together) {
	t.eachAcceptance(func(r reporter, at finding.Location, name string) {
		known, ok := t.lookUp(name)
		if ok && known.severity != finding.Error && known.theme != targets && !t.accepted[acceptance{name, at.Place}] {
			r.report(at, "the rule %s is accepted, but nothing breaks it", name).remedy("remove this line")
		}
	})
}
