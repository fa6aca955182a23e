package droplet_test

import (
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/droplet"
	"stavren.example/stavren/render"
)

func TestDemo(t *testing.T) {
	golden.Compare(t, golden.Render(t, droplet.Target.Target, golden.Demo(t), golden.Machines...))
}

// TestSteps looks at the order: tags before the firewalls that take them, and volumes once
// the machine runs.
func TestSteps(t *testing.T) {
	f := golden.OnCloud(fleet.Platform{Name: "droplet", Region: "ams3"}, "debian-12-x64", "almanac")
	f.Machines[0].Firewall = []string{"office"}
	f.Machines[0].Disks = []*fleet.Disk{{Name: "root", Size: 10 * fleet.GiB}, {Name: "pages", Size: fleet.GiB}}
	f.Complete()
	steps := droplet.Target.Steps(&render.Job{Fleet: f}, f.Machines)
	for i, want := range map[int]string{1: "doctl compute tag create firewall:tide-office-office && doctl compute firewall create",
		3: "grep -qE '^almanac +active$'; do sleep 5; done && doctl compute volume-action attach"} {
		if !strings.Contains(steps[i].Command, want) {
			t.Errorf("step %d is %s", i, steps[i].Command)
		}
	}
	if needs := droplet.Target.Needs(f, f.Machines[0]); len(needs) != 1 || needs[0].Rule != "public-anyway" {
		t.Errorf("needs %+v", needs)
	}
}
