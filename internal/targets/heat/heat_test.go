package heat_test

import (
	"testing"

	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/heat"
)

func TestDemo(t *testing.T) {
	golden.Compare(t, golden.Render(t, heat.Target.Target, golden.Demo(t)))
}
