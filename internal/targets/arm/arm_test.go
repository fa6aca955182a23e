package arm_test

import (
	"testing"

	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/arm"
)

func TestDemo(t *testing.T) {
	golden.Compare(t, golden.Render(t, arm.Target.Target, golden.Demo(t)))
}
