package check

import "stavren.example/stavren/finding"

// targetRules lists what targets report before rendering, with `check --for` and
// `render`. The targets themselves look for it; only the documentation is here,
// beside that of all other rules. Even errors can be accepted as long as the
// definition is only checked: its machine may never go to that platform.
func targetRules() []rule {
	return []rule{
		{name: "image-without-file", severity: finding.Error},
		{name: "architecture-of-target", severity: finding.Error},
		{name: "port-without-nat", severity: finding.Error},
		{name: "port-without-address", severity: finding.Error},
		{name: "vnc-port-too-low", severity: finding.Error},
		{name: "machines-apart", severity: finding.Advice},
		{name: "text-not-in-xml", severity: finding.Error},
		{name: "too-many-disks", severity: finding.Error},
		{name: "too-many-devices", severity: finding.Error},
		{name: "no-tpm", severity: finding.Warning},
		{name: "placeholder-left", severity: finding.Warning},
		{name: "no-size-fits", severity: finding.Error},
		{name: "unknown-size", severity: finding.Warning},
		{name: "size-too-small", severity: finding.Error},
		{name: "user-data-too-large", severity: finding.Error},
		{name: "name-shortened", severity: finding.Advice},
		{name: "name-refused", severity: finding.Error},
		{name: "label-refused", severity: finding.Error},
		{name: "disk-rounded", severity: finding.Advice},
		{name: "login-reserved", severity: finding.Error},
		{name: "password-login-on-cloud", severity: finding.Warning},
		{name: "no-admin-user", severity: finding.Error},
		{name: "template-too-large", severity: finding.Error},
		{name: "subnet-of-platform", severity: finding.Error},
		{name: "address-of-platform", severity: finding.Error},
		{name: "addresses-must-be-kept", severity: finding.Warning},
		{name: "zones-on-one-subnet", severity: finding.Error},
		{name: "interfaces-left-out", severity: finding.Warning},
		{name: "first-boot-unread", severity: finding.Warning},
		{name: "identity-refused", severity: finding.Error},
		{name: "public-anyway", severity: finding.Warning},
		{name: "key-refused", severity: finding.Error},
		{name: "address-not-assigned", severity: finding.Warning},
		{name: "disk-left-empty", severity: finding.Warning},
		{name: "networks-joined", severity: finding.Advice},
		{name: "unknown-setting", severity: finding.Warning},
	}
}
