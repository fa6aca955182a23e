package conformance

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// TestPythonReadsArchive reads archives as cloud-init does, with Python's package
// email, and compares every part byte for byte.
func TestPythonReadsArchive(t *testing.T) {
	python := program(t, "/usr/bin/python3")
	texts := []string{
		"#cloud-boothook\n#!/bin/sh\necho tide\n", "#cloud-boothook\nit's \"$(x)\" `y` é 🌊\n",
		"#cloud-boothook\nno end",
		"#cloud-boothook\r\nWindows\r\n", "#cloud-boothook\n--==stavren==\n", "#cloud-boothook\n--==stavren==--\n",
		"#cloud-boothook\nFrom here\n", "#cloud-boothook\n" + strings.Repeat("x", 2000) + "\n",
	}
	for _, system := range []string{"debian-12", "windows-server-2025"} {
		m := &fleet.Machine{Name: "tide", Image: "i", FirstBoot: &fleet.FirstBoot{}}
		for i, text := range texts {
			m.FirstBoot.Scripts = append(m.FirstBoot.Scripts,
				&fleet.Script{Name: "s" + string(rune('a'+i)), Content: fleet.Content{Text: text}})
		}
		f := &fleet.Fleet{Name: "x", Images: []*fleet.Image{{Name: "i", OS: system}}, Machines: []*fleet.Machine{m}}
		f.Complete()
		files, err := render.All(context.Background(), cloudinit.Target, f, render.Options{})
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(t.TempDir(), "user-data")
		if err := os.WriteFile(path, files[0].Data, 0o600); err != nil {
			t.Fatal(err)
		}
		const read = `
import email, json, sys
parts = email.message_from_bytes(open(sys.argv[1], "rb").read()).get_payload()
print(json.dumps([[p.get_content_type(), p.get_filename(), p.get_payload(decode=True).hex()] for p in parts]))
`
		out, err := exec.Command(python, "-c", read, path).Output()
		if err != nil {
			t.Fatalf("%s: %v", system, err)
		}
		var parts [][3]string
		if err := json.Unmarshal(out, &parts); err != nil {
			t.Fatal(err)
		}
		if len(parts) != len(texts)+1 || parts[0][0] != "text/cloud-config" {
			t.Fatalf("%s: %d parts, %v", system, len(parts), parts[0][:2])
		}
		kind := map[string]string{"debian-12": "text/cloud-boothook",
			"windows-server-2025": "text/x-shellscript"}[system]
		for i, part := range parts[1:] {
			if part[0] != kind || part[2] != hexOf(texts[i]) {
				t.Errorf("%s: part %v of %.40q", system, part[:2], texts[i])
			}
		}
	}
}
