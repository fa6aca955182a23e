package arm

import (
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/ordered"
)

// isID reports whether an identity is the full id of one that exists.
func isID(account string) bool { return strings.HasPrefix(account, "/") }

// identities creates those that are named only: the group of the template is new, so
// nothing can be in it already.
func (t *template) identities() {
	made := map[string]bool{}
	for _, m := range t.machines {
		if account := m.Identity.Account; account != "" && !isID(account) && !made[account] {
			made[account] = true
			t.add(identityKind, identityVersion, account, nil)
		}
	}
}

// identityOf returns a machine's identity, and what it depends on.
func identityOf(m *fleet.Machine) (identity *ordered.Map, after ordered.List) {
	account := m.Identity.Account
	if account == "" {
		return nil, nil
	}
	name := literal(account)
	if !isID(account) {
		name = id(identityKind, account)
		after = ordered.List{name}
	}
	return ordered.Of("type", "UserAssigned", "userAssignedIdentities", ordered.Of(name, ordered.Keep(ordered.Of()))),
		after
}
