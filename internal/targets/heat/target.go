// Package heat renders a fleet as a template for OpenStack Heat. Resource types
// and properties are those of the Heat Orchestration Template guide, version
// 2018-08-31 (openstack.org, "OpenStack Resource Types").
package heat

import (
	"fmt"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/render"
)

// Target renders one template per fleet.
var Target = platform.NewTarget(render.Target{
	Summary: "one template for OpenStack Heat",
	Writes:  []string{"FLEET.heat.yaml"},
	Fates:   fates,
	Fleet:   func(job *render.Job) ([]render.File, error) { return newTemplate(job).render() },
	Steps:   steps,
}, readBack)

func steps(job *render.Job, _ []*fleet.Machine) []render.Step {
	name, stack := job.Fleet.Name, job.Fleet.Deployment()
	return []render.Step{{
		About:   "create the stack",
		Command: fmt.Sprintf("openstack stack create --wait --template %s.heat.yaml %s", name, stack),
		Request: "POST $OS_HEAT_URL/v1/$OS_PROJECT_ID/stacks\nX-Auth-Token: $OS_TOKEN\n" +
			"Content-Type: application/json\n\n" +
			"{\"stack_name\": \"" + stack + "\", \"template\": the content of " + name + ".heat.yaml as one text}",
	}}
}

func fates() []render.Fate {
	return render.Merge(cloud.Fates(),
		render.Carry("platform.address_pool", "size.cpus", "size.memory", "size.disk", "machine.zone",
			"nic.hardware_address", "nic.also", "fleet.about", "first_boot.guest_tools"),
		render.Adapt("the platform's own network for those that lead out; the others are created with their subnet",
			"network.mode", "network.subnet"),
		render.Adapt("a volume with the policy Retain", "disk.keep"),
		render.Adapt("a data disk is a volume of the type that the setting fast_volume_type names, or of the platform's "+
			"default type, as a root disk is",
			"disk.speed"),
		render.LeaveOut("a template is created in the region that it is sent to", "machine.region", "platform.region"),
		render.Adapt("requested on networks of the template's own, and on the platform's if the setting subnet names its "+
			"subnet", "nic.address"),
		render.LeaveOut("the platform knows it from its copy of the image", "image.arch"),
		render.LeaveOut("Heat has no property for it", "machine.interruptible", "machine.when_stopped",
			"identity.account", "identity.scopes"),
	)
}
