//go:build unix

package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestSignals interrupts every command that reads a definition while it reads a long
// one, and while it waits for something that never comes.
func TestSignals(t *testing.T) {
	stavren := build(t)
	folder := t.TempDir()
	slow := "stavren: 1\nfleet: slow\nimages: {i: {os: debian-12}}\nmachines: {\n" +
		strings.Repeat("a: {a: b, c: d},\n", 120000) + "}\n"
	if err := os.WriteFile(filepath.Join(folder, "slow.stavren.yaml"), []byte(slow), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, signal := range []syscall.Signal{syscall.SIGINT, syscall.SIGTERM} {
		for _, command := range []string{"check slow.stavren.yaml", "show slow.stavren.yaml",
			"render qemu slow.stavren.yaml -o out", "fit slow.stavren.yaml", "reach slow.stavren.yaml",
			"serve slow.stavren.yaml", "check --here slow.stavren.yaml"} {
			t.Run(signal.String()+" "+command, func(t *testing.T) {
				c := exec.Command(stavren, strings.Fields(command)...)
				c.Dir = folder
				var stderr bytes.Buffer
				c.Stderr = &stderr
				if err := c.Start(); err != nil {
					t.Fatal(err)
				}
				time.Sleep(150 * time.Millisecond)
				if err := c.Process.Signal(signal); err != nil {
					t.Fatal(err)
				}
				started := time.Now()
				_ = c.Wait() // its code is looked at
				if took := time.Since(started); took > 5*time.Second {
					t.Errorf("it went on for %v", took)
				}
				if code := c.ProcessState.ExitCode(); code != 2 ||
					!strings.Contains(stderr.String(), "stopped by a signal; nothing was written") {
					t.Errorf("exit code %d, %.200s", code, stderr.String())
				}
			})
		}
	}
	if entries, err := os.ReadDir(folder); err != nil || len(entries) != 1 {
		t.Errorf("left behind: %v, %v", entries, err)
	}
}

// TestClosedOutput lets every command write to a reader that has gone. It ends, and says
// nothing that looks like a fault of its own.
func TestClosedOutput(t *testing.T) {
	stavren := build(t)
	folder := t.TempDir()
	if out, err := exec.Command(stavren, "demo", folder).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for _, command := range []string{"check rough-seas.stavren.yaml", "show tide-office.stavren.yaml", "rules",
		"targets", "reach tide-office.stavren.yaml", "schema", "fit tide-office.stavren.yaml", "demo", "--help",
		"render cloud-init tide-office.stavren.yaml --machine almanac --only user-data -o -"} {
		t.Run(command, func(t *testing.T) {
			read, write, err := os.Pipe()
			if err != nil {
				t.Fatal(err)
			}
			read.Close()
			c := exec.Command(stavren, strings.Fields(command)...)
			c.Dir = folder
			var stderr bytes.Buffer
			c.Stdout, c.Stderr = write, &stderr
			err = c.Run()
			write.Close()
			if err == nil || strings.Contains(stderr.String(), "goroutine") {
				t.Errorf("%v, %.300s", err, stderr.String())
			}
		})
	}
}
