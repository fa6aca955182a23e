package main

import (
	"bytes"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// build builds the command as a user would and returns its path.
func build(t *testing.T) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "stavren")
	if out, err := exec.Command("go", "build", "-o", path, ".").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return path
}

// TestBinary checks that the built command keeps its streams and exit codes apart.
func TestBinary(t *testing.T) {
	stavren := build(t)
	folder := t.TempDir()
	for name, text := range map[string]string{
		"good.stavren.yaml": "stavren: 1\nfleet: good\nimages: {i: {os: debian-12}}\nmachines: {m: {image: i}}\n" +
			"accept: {nobody-can-log-in: A test, no-way-in: A test}\n",
		"warned.stavren.yaml": "stavren: 1\nfleet: warned\nimages: {i: {os: debian-12}}\nmachines: {m: {image: i}}\n",
		"bad.stavren.yaml":    "stavren: 1\nfleet: bad\nmachines: {m: {image: nope}}\n",
	} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		args     string
		code     int
		out, err string
	}{
		{"check good.stavren.yaml", 0, "", "good: 1 machine, no findings"},
		{"check warned.stavren.yaml", 0, "warning: nobody-can-log-in", "2 warnings"},
		{"check --strict warned.stavren.yaml", 1, "warning: nobody-can-log-in", "2 warnings"},
		{"check bad.stavren.yaml", 1, "error: unknown-image", "1 error"},
		{"check none.stavren.yaml", 2, "", "stavren: cannot read the definition"},
		{"check", 2, "", "requires at least 1 arg"},
		{"render seed bad.stavren.yaml -o out", 1, "", "nothing was written"},
		{"render seed good.stavren.yaml -o out", 0, "out/m/seed.iso", "1 file: 1 new"},
		{"--version", 0, "stavren ", ""},
		{"completion bash", 0, "__start_stavren", ""},
		{"completion fish", 0, "complete -c stavren", ""},
	} {
		t.Run(c.args, func(t *testing.T) {
			command := exec.Command(stavren, strings.Fields(c.args)...)
			command.Dir = folder
			var stdout, stderr bytes.Buffer
			command.Stdout, command.Stderr = &stdout, &stderr
			err := command.Run()
			var exit *exec.ExitError
			if err != nil && !errors.As(err, &exit) {
				t.Fatal(err)
			}
			if code := command.ProcessState.ExitCode(); code != c.code {
				t.Errorf("%s: exit code %d, want %d\n%s%s", c.args, code, c.code, &stdout, &stderr)
			}
			if !strings.Contains(stdout.String(), c.out) || c.out == "" && stdout.Len() > 0 {
				t.Errorf("%s: standard output %q", c.args, &stdout)
			}
			if !strings.Contains(stderr.String(), c.err) {
				t.Errorf("%s: standard error %q", c.args, &stderr)
			}
			if bytes.ContainsRune(append(stdout.Bytes(), stderr.Bytes()...), '\x1b') &&
				!strings.HasPrefix(c.args, "completion") {
				t.Errorf("%s: colour was written to a pipe", c.args)
			}
		})
	}
}

// TestColour checks that colour can be asked for, and that NO_COLOR keeps it off.
func TestColour(t *testing.T) {
	stavren := build(t)
	for environment, want := range map[string]bool{"CLICOLOR_FORCE=1": true, "NO_COLOR=1": false} {
		t.Run(environment, func(t *testing.T) {
			command := exec.Command(stavren, "rules", "unknown-image")
			command.Env = append(os.Environ(), "NO_COLOR=", environment, "TERM=xterm-256color")
			out, err := command.Output()
			if err != nil {
				t.Fatal(err)
			}
			if got := bytes.ContainsRune(out, '\x1b'); got != want {
				t.Errorf("%s: colour %v, want %v", environment, got, want)
			}
		})
	}
}
