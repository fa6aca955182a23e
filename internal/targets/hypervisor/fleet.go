package hypervisor

import (
	"bytes"
	_ "embed"
	"fmt"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/render"
)

//go:embed fleet.sh.template
var fleetText string

// FleetScript renders fleet.sh, which runs the machines of a fleet by their run.sh. It
// lists all of them, and skips those whose folders aren't there. blocks says that run.sh
// stays until its machine is off.
func FleetScript(f *fleet.Fleet, target string, blocks bool) ([]byte, error) {
	values := struct {
		Fleet, Target string
		Machines      []string
		Blocks        bool
	}{Fleet: f.Name, Target: target, Blocks: blocks}
	for _, m := range f.Machines {
		values.Machines = append(values.Machines, m.Name)
	}
	var script bytes.Buffer
	if err := Template("fleet.sh", fleetText).Execute(&script, values); err != nil {
		return nil, fmt.Errorf("fleet.sh: %w", err)
	}
	return script.Bytes(), nil
}

// FleetSteps starts machines by fleet.sh: all of the fleet, or some by their names.
func FleetSteps(job *render.Job, machines []*fleet.Machine) []render.Step {
	if len(machines) == 0 {
		return nil
	}
	about, names := "start the machines in the background, and print how to get in", ""
	if len(machines) < len(job.Fleet.Machines) {
		for _, m := range machines {
			names += " " + m.Name
		}
	}
	return []render.Step{
		{About: about, Command: "sh fleet.sh start" + names},
		{About: "later, shut them down", Command: "sh fleet.sh stop" + names},
		{About: "remove them and their disks, but for those to be kept", Command: "sh fleet.sh remove" + names},
	}
}
