// Package cloudformation renders a fleet as an AWS CloudFormation template.
// Resource types and properties are those of the CloudFormation template
// reference (docs.aws.amazon.com, "AWS resource and property types reference").
package cloudformation

import (
	"fmt"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/render"
)

// Target renders one template per fleet.
var Target = platform.NewTarget(render.Target{
	Summary: "one template for AWS CloudFormation",
	Writes:  []string{"FLEET.cloudformation.json"},
	Fates:   fates,
	Needs:   needs,
	Fleet:   func(job *render.Job) ([]render.File, error) { return newTemplate(job).render() },
	Steps:   steps,
}, readBack)

func steps(job *render.Job, _ []*fleet.Machine) []render.Step {
	name, stack := job.Fleet.Name, job.Fleet.Deployment()
	region := platform.ValueOrPlaceholder(job.Fleet, nil, "region")
	file := name + ".cloudformation.json"
	return []render.Step{
		{
			About: "validate the template",
			Command: fmt.Sprintf("aws cloudformation validate-template --region %s --template-body file://%s", region,
				file),
		},
		{
			About: "create the stack; a template of more than 51,200 bytes also needs --s3-bucket BUCKET",
			Command: fmt.Sprintf("aws cloudformation deploy --region %s --stack-name %s --template-file %s", region,
				stack, file),
			Request: fmt.Sprintf("POST https://cloudformation.%s.amazonaws.com/\n"+
				"Content-Type: application/x-www-form-urlencoded\n"+
				"Authorization: signed with your own keys (Signature Version 4)\n\n"+
				"Action=CreateStack&Version=2010-05-15&StackName=%s&TemplateBody= the content of %s, percent-encoded",
				region, stack, file),
		},
	}
}

func fates() []render.Fate {
	return render.Merge(cloud.Fates(),
		render.LeaveOut("a template is deployed to one region, which platforms names", "machine.region"),
		render.Carry("network.subnet", "machine.interruptible", "machine.when_stopped", "fleet.about", "disk.speed"),
		render.Adapt("a network of the stack's own, with a route out for nat and bridged ones; or the subnet that "+
			"platforms names",
			"network.mode"),
		render.Adapt("the volume is kept when the machine is deleted", "disk.keep"),
		render.Adapt("an instance profile", "identity.account"),
		render.LeaveOut("the instance profile has policies of its own", "identity.scopes"),
	)
}
