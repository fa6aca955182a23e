package cloudinit

import (
	"encoding/base64"
	"fmt"
	"strings"
	"unicode/utf8"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/quote"
	"stavren.example/stavren/internal/targets/firewall"
	"stavren.example/stavren/render"
)

// WindowsScript renders what happens inside a machine with Windows as one PowerShell
// script, for platforms whose own images run one and read nothing else. It does its work
// once, however often it is run, and restarts the machine if its name changes.
func WindowsScript(job *render.Job, m *fleet.Machine, environment Environment) (Data, error) {
	var data Data
	var text strings.Builder
	fmt.Fprintf(&text, "$ErrorActionPreference = 'Stop'\n$done = %s\nif (Test-Path $done) { exit }\n"+
		"New-Item -ItemType Directory -Force -Path %s | Out-Null\n",
		quote.PowerShell(windowsFolder+`\first-boot-done`), quote.PowerShell(windowsFolder))
	secret, err := accountsByScript(&text, job, m, catalog.Of(job.Fleet, m))
	if err != nil {
		return Data{}, err
	}
	data.Secret = secret
	if servers := m.Time.Servers; len(servers) > 0 {
		fmt.Fprintf(&text, "Start-Service w32time\nw32tm /config /syncfromflags:manual /manualpeerlist:%s /update | Out-Null\n",
			quote.PowerShell(strings.Join(servers, " ")))
	}
	add := func(name, content string) {
		fmt.Fprintf(&text, "New-Item -ItemType Directory -Force -Path (Split-Path -Parent %[1]s) | Out-Null\n"+
			"[IO.File]::WriteAllBytes(%[1]s, [Convert]::FromBase64String('%[2]s'))\n", quote.PowerShell(name),
			base64.StdEncoding.EncodeToString([]byte(content)))
	}
	for _, file := range m.FirstBoot.Files {
		content, secret, err := reveal(job, &file.Content)
		if err != nil {
			return Data{}, fmt.Errorf("file %s: %w", file.Path, err)
		}
		data.Secret = data.Secret || secret
		data.Parts = append(data.Parts, Part{"file " + file.Path, len(content)})
		add(file.Path, content)
	}
	if openings, refuses := environment.openings(job.Fleet, m); refuses {
		text.WriteString(firewall.PowerShell(openings))
	}
	for i, script := range m.FirstBoot.Scripts {
		content, secret, err := reveal(job, &script.Content)
		if err != nil {
			return Data{}, fmt.Errorf("script %s: %w", script.Name, err)
		}
		data.Secret = data.Secret || secret
		data.Parts = append(data.Parts, Part{"script " + script.Name, len(content)})
		file := fmt.Sprintf("%02d-%s%s", i+1, script.Name, windowsExtension(content))
		path := windowsFolder + `\` + file
		if strings.HasSuffix(file, ".ps1") {
			content = withMark(content) // which cmd would take for a command
		}
		add(path, content)
		switch {
		case script.When == fleet.EveryBoot:
			text.WriteString(atStartup(script.Name, file))
		case strings.HasSuffix(file, ".cmd"):
			fmt.Fprintf(&text, "cmd.exe /c %s\n", quote.PowerShell(path))
		default:
			fmt.Fprintf(&text, "powershell.exe -NoProfile -ExecutionPolicy Bypass -File %s\n", quote.PowerShell(path))
		}
	}
	if services := m.FirstBoot.Services; len(services) > 0 {
		text.WriteString(startServices(services))
	}
	fmt.Fprintf(&text, "New-Item -ItemType File -Path $done | Out-Null\nif ($env:COMPUTERNAME -ne %[1]s) "+
		"{ Rename-Computer -NewName %[1]s -Force -Restart }\n", quote.PowerShell(m.HostName))
	data.Text = []byte(text.String())
	data.Identity = data.Text
	return data, nil
}

// withMark puts the mark of UTF-8 before a text with other letters than ASCII's, which
// Windows PowerShell takes for the system's own encoding otherwise (about_Character_Encoding).
func withMark(text string) string {
	for _, char := range text {
		if char >= utf8.RuneSelf {
			return "\uFEFF" + text
		}
	}
	return text
}

// accountsByScript makes the accounts, and reports whether one has a password.
func accountsByScript(text *strings.Builder, job *render.Job, m *fleet.Machine, system catalog.System) (secret bool,
	err error) {
	var adminKeys []string
	for _, user := range m.Users {
		name := quote.PowerShell(user.Name)
		settings := ""
		if user.FullName != "" {
			settings += " -FullName " + quote.PowerShell(user.FullName)
		}
		if !user.Expires.IsZero() {
			settings += " -AccountExpires " + quote.PowerShell(user.Expires.Format("2006-01-02"))
		}
		if user.Password != "" {
			value, err := job.Secret(user.Password)
			if err != nil {
				return false, err
			}
			secret = true
			settings += " -Password (ConvertTo-SecureString -AsPlainText -Force " + quote.PowerShell(value) + ")"
		}
		fmt.Fprintf(text, "if (-not (Get-LocalUser -Name %[1]s -ErrorAction SilentlyContinue)) "+
			"{ New-LocalUser -Name %[1]s -NoPassword | Out-Null }\n", name)
		if settings != "" {
			fmt.Fprintf(text, "Set-LocalUser -Name %s%s\n", name, settings)
		}
		groups := user.Groups
		if user.Admin != fleet.NoAdmin {
			groups = append([]string{system.Family.AdminGroup}, groups...)
			adminKeys = append(adminKeys, keysOf(job.Fleet, user)...)
		}
		for _, group := range groups {
			fmt.Fprintf(text, "if (-not (Get-LocalGroupMember -Group %[1]s -Member %[2]s -ErrorAction SilentlyContinue)) "+
				"{ Add-LocalGroupMember -Group %[1]s -Member %[2]s }\n", quote.PowerShell(group), name)
		}
	}
	if len(adminKeys) > 0 {
		// Where OpenSSH for Windows looks for those of all administrators, if only they may
		// change the file.
		fmt.Fprintf(text, "New-Item -ItemType Directory -Force -Path 'C:\\ProgramData\\ssh' | Out-Null\n"+
			"Set-Content -Encoding ascii -Path %[1]s -Value %[2]s\n"+
			"icacls.exe %[1]s /inheritance:r /grant 'Administrators:F' /grant 'SYSTEM:F' | Out-Null\n",
			quote.PowerShell(`C:\ProgramData\ssh\administrators_authorized_keys`),
			quote.PowerShell(strings.Join(adminKeys, "\n")))
	}
	return secret, nil
}

// WindowsScriptFates returns the fates that differ where [WindowsScript] does the work.
func WindowsScriptFates() []render.Fate {
	return render.Merge(
		render.LeaveOut("Windows has other names for time zones", "time.zone"),
		render.Adapt("OpenSSH takes those of administrators; others have no profile yet that could hold them",
			"user.keys", "key.text"),
		render.Adapt("one script makes them by PowerShell", "user.full_name", "user.groups", "user.expires", "user.admin",
			"file.text", "machine.host_name", "time.servers"),
		render.Adapt("it is in the script in the clear, since Windows accepts no hash", "user.password"),
		render.Adapt("a file that is run by PowerShell or, if it starts with @echo, by cmd", "script.text"),
		render.Adapt("the script runs them once; those of every boot become a scheduled task at startup", "script.when"),
		render.Adapt("the script sets and starts them", "first_boot.services"),
	)
}
