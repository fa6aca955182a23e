package cloud

import "stavren.example/stavren/render"

// Target is a target for a cloud: how it renders, the description of its platform,
// and how to read its output back.
type Target struct {
	render.Target
	Cloud    *Cloud
	ReadBack ReadBack
}

// NewTarget completes a target with what the description of its platform gives:
// its name, and its needs and overrides unless the target has its own.
func (c *Cloud) NewTarget(target render.Target, readBack ReadBack) Target {
	target.Name = c.Name
	if target.Needs == nil {
		target.Needs = c.Needs
	}
	if target.Overrides == nil {
		target.Overrides = c.Overrides
	}
	return Target{target, c, readBack}
}
