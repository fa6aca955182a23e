package check_test

import (
	"strings"
	"testing"

	"stavren.example/stavren/check"
	"stavren.example/stavren/fleet"
)

// windowsFindings checks a script on a Windows machine and returns the findings as
// "LINE:COLUMN rule: message".
func windowsFindings(t *testing.T, text string) []string {
	m := &fleet.Machine{Name: "ferry-desk", Image: "pier", FirstBoot: &fleet.FirstBoot{Scripts: []*fleet.Script{{
		Name: "pier", Content: fleet.Content{Text: text, Block: true,
			TextPlace: fleet.Place{File: "x.stavren.yaml", Line: 1, Column: 1}}}}}}
	f := &fleet.Fleet{Name: "tide-office", Images: []*fleet.Image{{Name: "pier", OS: "windows-server-2025"}},
		Machines: []*fleet.Machine{m}}
	f.Complete()
	var found []string
	for _, finding := range run(t, check.Options{}, f) {
		if strings.HasPrefix(finding.Rule, "script-") {
			found = append(found, strings.TrimPrefix(finding.Place.String(),
				"x.stavren.yaml:")+" "+finding.Rule+": "+finding.Message)
		}
	}
	return found
}

func TestPowerShell(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"$name = Read-Host 'Name'\n", "1:9 script-waits-for-answer: script pier waits for an answer at first " +
			"boot: Read-Host"},
		{"Write-Output \"$(Read-Host)\"\n", "1:17 script-waits-for-answer"},
		{"Install-Module Tides\n", "1:1 script-waits-for-answer"},
		{"if ($x) {\n  Remove-Item C:\\tides -Confirm\n}\n", "2:3 script-waits-for-answer"},
		{"Write-Output 'open\n", "1:14 script-not-parsed: script pier does not parse: the quote is never closed"},
		{"if ($x) {\n  Get-Date\n", "1:9 script-not-parsed: script pier does not parse: the { is never closed"},
		{"Get-Date)\n", "1:9 script-not-parsed: script pier does not parse: the ) closes nothing"},
		{"$t = @'\ntides\n", "1:6 script-not-parsed: script pier does not parse: the here-string is never closed"},
		{"<# tides\n", "1:1 script-not-parsed: script pier does not parse: the comment is never closed"},
	} {
		t.Run(c.text, func(t *testing.T) {
			found := windowsFindings(t, c.text)
			if len(found) != 1 || !strings.HasPrefix(found[0], c.want) {
				t.Errorf("%q: %q", c.text, found)
			}
		})
	}
}

// TestPowerShellIsQuiet checks that ordinary scripts give no findings.
func TestPowerShellIsQuiet(t *testing.T) {
	for _, text := range []string{
		"",
		"# Read-Host is not called\nGet-Date # nor pause\n",
		"Write-Output 'Read-Host' \"pause\"\n",
		"<#\nRead-Host\n#>\nGet-Date\n",
		"$text = @\"\nRead-Host \"here\" and it's fine {\n\"@\nSet-Content C:\\a.txt $text\n",
		"Write-Output 'it''s' \"say \"\"tide\"\" and `\" $($a['x'])\"\n",
		"Get-ChildItem |\n  Where-Object { $_.Length -gt 1kb } |\n  ForEach-Object { Remove-Item $_ -Confirm:$false }\n",
		"$map = @{ a = 1; 'b' = @(1, 2) }\nforeach ($k in $map.Keys) { Write-Output \"$k\" }\n",
		"Install-WindowsFeature -Name Web-Server `\n  -IncludeManagementTools\n",
		"Install-Module Tides -Force\r\ntry { Get-Item x } catch { Write-Warning $_ }\r\n",
		"New-Item -Path 'HKLM:\\Software\\Tide' -Force | Out-Null\n" +
			"[Environment]::SetEnvironmentVariable('TIDE', '1', 'Machine')\n",
		"@echo off\npause\n",
		"function Read-Tide { param([string]$Gauge = 'reef') return $Gauge }\nRead-Tide -Gauge 'pier'\n",
	} {
		if found := windowsFindings(t, text); len(found) != 0 {
			t.Errorf("%q: %q", text, found)
		}
	}
}

// FuzzPowerShell checks that any text is read to its end.
func FuzzPowerShell(f *testing.F) {
	for _, text := range []string{"", "'", "\"$(", "@'\n'@", "`", "{[(", "a | b -c 'd'"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) { windowsFindings(t, text) })
}
