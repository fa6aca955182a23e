package gce_test

import (
	"testing"

	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/gce"
)

func TestDemo(t *testing.T) {
	golden.Compare(t, golden.Render(t, gce.Target.Target, golden.Demo(t), golden.Machines...))
}
