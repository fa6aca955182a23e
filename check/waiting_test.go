package check_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
)

// checkScript returns the rules that a script breaks on a Debian machine.
func checkScript(t *testing.T, script string) string {
	t.Helper()
	f := loaded(t, withBase("  a:\n    image: bookworm\n    first_boot:\n      scripts:\n        s:\n          text: |\n"+
		"            "+strings.ReplaceAll(strings.TrimSuffix(script, "\n"), "\n", "\n            ")+"\n"))
	var own []string
	for _, found := range run(t, today, f) {
		// Other rules on scripts have tests of their own.
		if found.Rule == "script-waits-for-answer" || found.Rule == "script-not-parsed" {
			own = append(own, found.Rule)
		}
	}
	return strings.Join(own, " ")
}

func TestScriptsThatWait(t *testing.T) {
	for _, script := range []string{
		"apt-get install nginx",
		"apt install nginx",
		"sudo apt-get -q install nginx",
		"DEBIAN_FRONTEND=noninteractive apt-get upgrade",
		"apt-get update && apt-get dist-upgrade",
		"if ! command -v jq; then apt-get install jq; fi",
		"for p in jq curl; do apt-get install \"$p\"; done",
		"setup() { apt-get install jq; }\nsetup",
		"x=$(apt-get install jq)",
		"timeout 60 apt-get install jq",
		"env LANG=C apt-get remove jq",
		"dnf install nginx",
		"yum update",
		"zypper install nginx",
		"pacman -S nginx",
		"pacman -Syu",
		"pkg install nginx",
		"read answer",
		"while true; do read -r line; done",
		"vi /etc/hosts",
		"visudo",
		"crontab -e",
		"passwd mira",
		"adduser mira",
		"ssh-keygen -t ed25519",
		"dpkg-reconfigure tzdata",
		"mysql_secure_installation",
		"openssl req -new -x509 -keyout k.pem -out c.pem",
		"gpg --gen-key",
		"cryptsetup luksFormat /dev/vdb",
		"fdisk /dev/vdb",
		"rm -i /etc/motd",
		"less /var/log/syslog",
	} {
		if got := checkScript(t, script); got != "script-waits-for-answer" {
			t.Errorf("%q gives %q", script, got)
		}
	}
}

func TestScriptsThatDoNotWait(t *testing.T) {
	for _, script := range []string{
		"apt-get install -y nginx",
		"apt-get -qq install nginx",
		"apt-get -qy install nginx",
		"apt-get install --assume-yes nginx",
		"yes | apt-get install nginx",
		"apt-get update",
		"apt-cache policy nginx",
		"dnf -y install nginx",
		"dnf makecache",
		"zypper --non-interactive install nginx",
		"pacman -Sy --noconfirm nginx",
		"pacman -Sy",
		"ASSUME_ALWAYS_YES=yes pkg install nginx",
		"export ASSUME_ALWAYS_YES=yes\npkg install nginx",
		"while read -r line; do echo \"$line\"; done </etc/hosts",
		"cat /etc/hosts | while read -r a b; do echo \"$a\"; done",
		"read -r first </etc/hostname",
		"read -r a b <<END\n1 2\nEND",
		"passwd -l mira",
		"echo mira:x | chpasswd -e",
		"adduser --disabled-password --gecos '' mira",
		"adduser --system tide",
		"adduser mira sudo",
		"useradd -m mira",
		"ssh-keygen -A",
		"ssh-keygen -q -t ed25519 -N '' -f /root/key",
		"ssh-keygen -R old.example",
		"DEBIAN_FRONTEND=noninteractive dpkg-reconfigure tzdata",
		"dpkg-reconfigure -f noninteractive tzdata",
		"openssl req -new -x509 -subj /CN=tides -keyout k.pem -out c.pem",
		"rm -rf /tmp/x",
		"vi() { :; }\nvi /etc/hosts",
		"echo apt-get install nginx",
		"cat <<END >/root/notes\napt-get install nginx\nread this\nEND",
		"printf '%s\\n' 'n' p 1 '' '' w | fdisk /dev/vdb",
		"fdisk -l",
		"parted -s /dev/vdb mklabel gpt",
		"visudo -c",
	} {
		if got := checkScript(t, script); got != "" {
			t.Errorf("%q gives %q", script, got)
		}
	}
}

func TestScriptsThatDoNotParse(t *testing.T) {
	for _, c := range []struct{ script, want string }{
		{"if true; then echo", "script-not-parsed"},
		{"echo 'unclosed", "script-not-parsed"},
		{"a=(1 2)", "script-not-parsed"}, // an array, which POSIX sh does not have
		{"#!/bin/bash\na=(1 2)\necho \"${a[@]}\"", ""},
		{"#!/usr/bin/env bash\n[[ -n $a ]] && echo x", ""},
		{"#!/usr/bin/env -S bash -e\na=(1)", ""},
		{"#!/usr/bin/python3\nimport os\nprint(os.name)", ""},
		{"#!/usr/bin/perl\nuse strict;", ""},
	} {
		t.Run(c.script, func(t *testing.T) {
			if got := checkScript(t, c.script); got != c.want {
				t.Errorf("%q gives %q, want %q", c.script, got, c.want)
			}
		})
	}
}

// TestRealisticScripts checks that scripts like those that people run at first boot
// give no findings. A file's name starts with its system.
func TestRealisticScripts(t *testing.T) {
	systems := map[string]string{
		"debian": "debian-12", "redhat": "almalinux-10", "alpine": "alpine-3.23", "arch": "arch",
		"suse": "opensuse-leap-16.0", "freebsd": "freebsd-15",
	}
	files, err := filepath.Glob("testdata/scripts/*.sh")
	if err != nil || len(files) < 30 {
		t.Fatalf("%d scripts, %v", len(files), err)
	}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		system, _, _ := strings.Cut(filepath.Base(file), "-")
		f := loaded(t, strings.Replace(withBase("  a: {image: bookworm, disks: {root: {size: 20GiB}}, resources: "+
			"{memory: 2GiB}}\n"), "debian-12", systems[system], 1))
		f.Machines[0].FirstBoot.Scripts = []*fleet.Script{{Name: "s",
			Content: fleet.Content{Text: string(data), File: file}}}
		f.Complete()
		for _, found := range run(t, today, f) {
			t.Errorf("%s: %v", file, found)
		}
	}
}
