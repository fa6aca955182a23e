// Package targets lists the built-in targets. Each has a package of its own below
// this one.
package targets

import (
	"stavren.example/stavren/internal/targets/arm"
	"stavren.example/stavren/internal/targets/bhyve"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/internal/targets/cloudformation"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/internal/targets/droplet"
	"stavren.example/stavren/internal/targets/gce"
	"stavren.example/stavren/internal/targets/heat"
	"stavren.example/stavren/internal/targets/libvirt"
	"stavren.example/stavren/internal/targets/oci"
	"stavren.example/stavren/internal/targets/ovf"
	"stavren.example/stavren/internal/targets/qemu"
	"stavren.example/stavren/internal/targets/seed"
	"stavren.example/stavren/render"
)

// Clouds returns the targets for clouds, in the order of the documentation.
func Clouds() []cloud.Target {
	return []cloud.Target{
		heat.Target,
		cloudformation.Target,
		arm.Target,
		gce.Target,
		oci.Target,
		droplet.Target,
	}
}

// All returns every target, in the order of the documentation.
func All() []render.Target {
	all := []render.Target{
		cloudinit.Target,
		seed.Target,
		qemu.Target,
		libvirt.Target,
		ovf.Target,
		bhyve.Target,
	}
	for _, target := range Clouds() {
		all = append(all, target.Target)
	}
	return all
}

// Cloud returns the description of the platform that a target is for. It reports
// false for a target that isn't for a cloud.
func Cloud(target string) (*cloud.Cloud, bool) {
	for _, t := range Clouds() {
		if t.Name == target {
			return t.Cloud, true
		}
	}
	return nil, false
}
