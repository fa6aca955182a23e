package droplet_test

import (
	"testing"

	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/droplet"
)

func TestDemo(t *testing.T) {
	golden.Compare(t, golden.Render(t, droplet.Target.Target, golden.Demo(t), golden.Machines...))
}
