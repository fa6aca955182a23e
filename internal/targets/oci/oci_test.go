package oci_test

import (
	"testing"

	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/oci"
)

func TestDemo(t *testing.T) {
	golden.Compare(t, golden.Render(t, oci.Target.Target, golden.Demo(t), golden.Machines...))
}
