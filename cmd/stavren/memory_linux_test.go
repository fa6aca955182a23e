package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"stavren.example/stavren/internal/benchfleet"
)

// TestMemory checks that the peak memory of check, including the program itself, is
// less than twenty times the definition.
func TestMemory(t *testing.T) {
	stavren := build(t)
	for name, data := range map[string][]byte{"full": benchfleet.Definition(10000),
		"kits": benchfleet.WithKits(10000)} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), name+".stavren.yaml")
			if err := os.WriteFile(file, data, 0o644); err != nil {
				t.Fatal(err)
			}
			command := exec.Command(stavren, "check", file)
			if out, err := command.CombinedOutput(); err != nil {
				t.Fatalf("%v\n%.2000s", err, out)
			}
			peak := command.ProcessState.SysUsage().(*syscall.Rusage).Maxrss * 1024
			ratio := float64(peak) / float64(len(data))
			t.Logf("%s: %d bytes for a definition of %d: %.1f times", name, peak, len(data), ratio)
			if name == "full" && ratio >= 20 {
				t.Errorf("%s: %.1f times the definition", name, ratio)
			}
		})
	}
}
