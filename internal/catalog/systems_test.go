package catalog_test

import (
	"regexp"
	"testing"
	"time"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

// looked is when the list was last compared with what vendors publish.
var looked = time.Date(2026, time.November, 25, 0, 0, 0, 0, time.UTC)

func TestSystems(t *testing.T) {
	name := regexp.MustCompile(`^[a-z]+(-[a-z0-9.]+)*$`)
	seen := map[string]bool{}
	supported, ended := map[string]int{}, map[string]int{}
	for _, system := range catalog.Systems() {
		if seen[system.Name] || !name.MatchString(system.Name) || system.Title == "" {
			t.Errorf("name %q or title %q", system.Name, system.Title)
		}
		seen[system.Name] = true
		if system.MinMemory < 128*fleet.MiB || system.MinMemory > 8*fleet.GiB || system.MinDisk < fleet.GiB ||
			system.MinDisk > 100*fleet.GiB {
			t.Errorf("%s needs %v of memory and %v of disk", system.Name, system.MinMemory, system.MinDisk)
		}
		if system.Login == "" || system.Family.Name == "" || system.Family.AdminGroup == "" {
			t.Errorf("%s lacks a login or a family", system.Name)
		}
		if system.EndOfLife.IsZero() || system.EndOfLife.After(looked) {
			supported[system.Family.Name]++
		} else {
			ended[system.Family.Name]++
		}
		if found, ok := catalog.Lookup(system.Name); !ok || found.Title != system.Title {
			t.Errorf("%s is not found by its name", system.Name)
		}
	}
	for _, family := range []string{"Debian", "Red Hat", "SUSE", "Alpine", "Arch", "FreeBSD", "Windows"} {
		if supported[family] == 0 {
			t.Errorf("no system of family %s is in support", family)
		}
		if family != "Arch" && ended[family] == 0 {
			t.Errorf("no system of family %s is out of support: nobody would notice", family)
		}
	}
}

func TestOwnSystem(t *testing.T) {
	f := &fleet.Fleet{Systems: []*fleet.System{{Name: "skerry-linux", Family: "alpine", MinMemory: 64 * fleet.MiB},
		{Name: "debian-12", Family: "suse"}}}
	own, ok := catalog.Find(f, "skerry-linux")
	if !ok || own.Family.PackageManager != "apk" || own.MinMemory != 64*fleet.MiB || own.MinDisk != 2*fleet.GiB ||
		own.Title != "skerry-linux" {
		t.Errorf("own system: %+v", own)
	}
	if shadowed, _ := catalog.Find(f, "debian-12"); shadowed.Family.Name != "SUSE" {
		t.Error("the definition's own system does not go first")
	}
	if _, ok := catalog.Find(f, "skerry-linx"); ok {
		t.Error("an unknown system was found")
	}
}
