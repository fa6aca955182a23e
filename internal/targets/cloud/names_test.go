package cloud_test

import (
	"strings"
	"testing"

	"stavren.example/stavren/internal/targets/cloud"
)

func TestShorten(t *testing.T) {
	long := strings.Repeat("almanac-", 10)
	short := cloud.Shorten(long, 30)
	if len(short) > 30 || !strings.HasPrefix(short, "almanac-almanac-almanac") ||
		short == cloud.Shorten(long+"x", 30) || cloud.Shorten("store", 30) != "store" {
		t.Errorf("%q", short)
	}
}
