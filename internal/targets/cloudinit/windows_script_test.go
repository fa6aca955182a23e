package cloudinit_test

import (
	"encoding/base64"
	"regexp"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// TestWindowsScript reads the script for platforms whose images run one: every text of the
// definition is in quotes or in base64, and the work is done once.
func TestWindowsScript(t *testing.T) {
	const hostile = "it's $(Remove-Item C:\\) `n \u2019; 'quoted' é"
	f, m := machine(func(f *fleet.Fleet, m *fleet.Machine) {
		f.Images[0].OS = "windows-server-2022"
		f.Secrets = []*fleet.Secret{{Name: "door", Env: "DOOR"}}
		f.Keys = []*fleet.Key{{Name: "ops", Content: fleet.Content{Text: "ssh-ed25519 AAAA ops"}}}
		m.Users = []*fleet.User{{Name: "mira", FullName: hostile, Password: "door", Admin: fleet.AdminWithPassword,
			Keys: []string{"ops"}}}
		m.FirstBoot.Files = []*fleet.File{{Path: `C:\tide\it's.txt`, Content: fleet.Content{Text: hostile}}}
		m.FirstBoot.Scripts = []*fleet.Script{
			{Name: "tables", Content: fleet.Content{Text: "Write-Output 'é'\n"}},
			{Name: "old", Content: fleet.Content{Text: "@echo off & rem é\r\n"}},
			{Name: "mark", When: fleet.EveryBoot, Content: fleet.Content{Text: "Get-Date\n"}}}
		m.FirstBoot.Services = []string{"sshd"}
		m.Time.Servers = []string{"time.skerry.example"}
	})
	job := &render.Job{Fleet: f, Options: render.Options{Secrets: func(*fleet.Secret) (string, error) { return hostile, nil }}}
	data, err := cloudinit.WindowsScript(job, m, cloudinit.Environment{})
	if err != nil || !data.Secret {
		t.Fatalf("%v, secret %v", err, data.Secret)
	}
	text := string(data.Text)
	wantAll(t, text, "if (Test-Path $done) { exit }\n", "Set-LocalUser -Name 'mira' -FullName 'it''s $(Remove-Item",
		"-Password (ConvertTo-SecureString -AsPlainText -Force 'it''s $(Remove-Item", `'C:\tide\it''s.txt'`,
		"administrators_authorized_keys' -Value 'ssh-ed25519 AAAA ops'", "/manualpeerlist:'time.skerry.example'",
		`-File 'C:\ProgramData\stavren\01-tables.ps1'`, `cmd.exe /c 'C:\ProgramData\stavren\02-old.cmd'`,
		"Register-ScheduledTask -Force", "Start-Service -Name 'sshd'", "Rename-Computer -NewName 'almanac' -Force -Restart")
	var files []string
	for _, match := range regexp.MustCompile(`FromBase64String\('([^']*)'\)`).FindAllStringSubmatch(text, -1) {
		content, err := base64.StdEncoding.DecodeString(match[1])
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, string(content))
	}
	want := []string{hostile, "\uFEFFWrite-Output 'é'\n", "@echo off & rem é\r\n", "Get-Date\n"}
	if strings.Join(files, "|") != strings.Join(want, "|") {
		t.Errorf("files %q, want %q", files, want)
	}
	// Without what is quoted and in base64, nothing of the texts is left.
	bare := regexp.MustCompile(`'(?:[^'\x{2018}\x{2019}\x{201a}\x{201b}]|''|[\x{2018}\x{2019}\x{201a}\x{201b}]{2})*'`).
		ReplaceAllString(text, "")
	for _, word := range []string{"Remove-Item", "quoted", "tide", "AAAA"} {
		if strings.Contains(bare, word) {
			t.Errorf("%s is outside of quotes in\n%s", word, bare)
		}
	}
}
