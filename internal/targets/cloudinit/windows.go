package cloudinit

import (
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/quote"
	"stavren.example/stavren/internal/targets/firewall"
	"stavren.example/stavren/render"
)

// On Windows, cloudbase-init reads first-boot data: a smaller set of cloud-config,
// and scripts as parts whose names say what runs them (plugins/common/userdataplugins
// in its source). Every script is a part, so nothing has to be quoted.

// windowsFolder has the scripts of every boot.
const windowsFolder = `C:\ProgramData\stavren`

func windowsData(job *render.Job, m *fleet.Machine, system catalog.System, environment Environment) (Data, error) {
	var data Data
	var written []*yaml.Node
	add := func(name, text string) {
		written = append(written, writeFile(name, text, "", "", false))
		data.Parts = append(data.Parts, Part{"file " + name, len(text)})
	}
	for _, file := range m.FirstBoot.Files {
		text, secret, err := reveal(job, &file.Content)
		if err != nil {
			return Data{}, fmt.Errorf("file %s: %w", file.Path, err)
		}
		data.Secret = data.Secret || secret
		add(file.Path, text)
	}
	var scripts []part
	if openings, refuses := environment.openings(job.Fleet, m); refuses {
		scripts = append(scripts, part{"00-firewall.ps1", "text/x-shellscript", firewall.PowerShell(openings)})
	}
	for i, script := range m.FirstBoot.Scripts {
		text, secret, err := reveal(job, &script.Content)
		if err != nil {
			return Data{}, fmt.Errorf("script %s: %w", script.Name, err)
		}
		data.Secret = data.Secret || secret
		file := fmt.Sprintf("%02d-%s%s", i+1, script.Name, windowsExtension(text))
		if script.When == fleet.EveryBoot {
			add(windowsFolder+`\`+file, text)
			text, file = atStartup(script.Name, file), fmt.Sprintf("%02d-%s.ps1", i+1, script.Name)
		}
		scripts = append(scripts, part{file, "text/x-shellscript", text})
		data.Parts = append(data.Parts, Part{"script " + script.Name, len(text)})
	}
	if services := m.FirstBoot.Services; len(services) > 0 {
		scripts = append(scripts, part{"99-services.ps1", "text/x-shellscript", startServices(services)})
	}
	accounts, secret, err := windowsUsers(job, m, system)
	if err != nil {
		return Data{}, err
	}
	data.Secret = data.Secret || secret
	config, err := encode("#cloud-config\n", mapping(
		"set_hostname", m.HostName,
		"users", accounts,
		"set_timezone", timeZone(m),
		"ntp", timeServers(m),
		"write_files", written,
	))
	if err != nil {
		return Data{}, err
	}
	data.Text = config
	if len(scripts) > 0 {
		data.Text = archive(append([]part{{"cloud-config.yaml", "text/cloud-config", string(config)}}, scripts...))
	}
	data.Identity = data.Text
	return data, nil
}

// windowsExtension returns the extension that says how to run a script: with
// PowerShell, unless its first line is one of cmd's.
func windowsExtension(text string) string {
	first, _, _ := strings.Cut(strings.ToLower(text), "\n")
	if strings.HasPrefix(first, "@echo") || strings.HasPrefix(first, "rem cmd") {
		return ".cmd"
	}
	return ".ps1"
}

// atStartup returns a script that registers a task to run another script at each
// start.
func atStartup(name, file string) string {
	run := `-NoProfile -ExecutionPolicy Bypass -File "` + windowsFolder + `\` + file + `"`
	program := "powershell.exe"
	if strings.HasSuffix(file, ".cmd") {
		program, run = "cmd.exe", `/c "`+windowsFolder+`\`+file+`"`
	}
	var text strings.Builder
	text.WriteString("$ErrorActionPreference = 'Stop'\n")
	fmt.Fprintf(&text, "$action = New-ScheduledTaskAction -Execute %s -Argument %s\n", quote.PowerShell(program),
		quote.PowerShell(run))
	text.WriteString("$trigger = New-ScheduledTaskTrigger -AtStartup\n")
	fmt.Fprintf(&text, "Register-ScheduledTask -Force -TaskPath '\\stavren\\' -TaskName %s -Action $action "+
		"-Trigger $trigger -User 'NT AUTHORITY\\SYSTEM' -RunLevel Highest\n", quote.PowerShell(name))
	// The first start counts too.
	fmt.Fprintf(&text, "Start-ScheduledTask -TaskPath '\\stavren\\' -TaskName %s\n", quote.PowerShell(name))
	return text.String()
}

func startServices(services []string) string {
	var text strings.Builder
	text.WriteString("$ErrorActionPreference = 'Stop'\n")
	for _, service := range services {
		fmt.Fprintf(&text, "Set-Service -Name %[1]s -StartupType Automatic\nStart-Service -Name %[1]s\n",
			quote.PowerShell(service))
	}
	return text.String()
}

// windowsUsers renders accounts. The reader needs the password itself, so it is in
// the data in the clear.
func windowsUsers(job *render.Job, m *fleet.Machine, system catalog.System) (list []*yaml.Node, secret bool,
	err error) {
	for _, user := range m.Users {
		groups := user.Groups
		if user.Admin != fleet.NoAdmin && !slices.Contains(groups, system.Family.AdminGroup) {
			groups = append(slices.Clone(groups), system.Family.AdminGroup)
		}
		var password any
		if user.Password != "" {
			text, err := job.Secret(user.Password)
			if err != nil {
				return nil, false, err
			}
			password, secret = text, true
		}
		var expires any
		if !user.Expires.IsZero() {
			expires = quotedNode(user.Expires.Format("2006-01-02"))
		}
		list = append(list, mapping(
			"name", user.Name,
			"gecos", optional(user.FullName),
			"groups", optional(strings.Join(groups, ",")),
			"passwd", password,
			"expiredate", expires,
			"ssh_authorized_keys", keysOf(job.Fleet, user),
		))
	}
	return list, secret, nil
}
