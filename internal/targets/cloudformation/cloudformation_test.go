package cloudformation_test

import (
	"testing"

	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/cloudformation"
)

func TestDemo(t *testing.T) {
	golden.Compare(t, golden.Render(t, cloudformation.Target.Target, golden.Demo(t)))
}
