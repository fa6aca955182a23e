package check

import (
	"fmt"
	"slices"
	"strings"
)

// waits says why a command would wait for an answer, and what to do about it. It
// returns "" for a command that doesn't wait.
func waits(c command) (why, remedy string) {
	if why, remedy = powerShellWaits(c); why != "" {
		return why, remedy
	}
	if confirm := confirmer(c.name()); confirm != nil {
		return confirm(c)
	}
	if c.fed {
		return "", ""
	}
	for _, look := range []func(command) (why, remedy string){interactiveProgram, accountTool, questioner, diskTool} {
		if why, remedy := look(c); why != "" {
			return why, remedy
		}
	}
	return "", ""
}

// interactiveProgram reports programs that are made for a person at a terminal.
func interactiveProgram(c command) (why, remedy string) {
	switch name := c.name(); name {
	case "read":
		return "read takes a line from a keyboard that isn't there",
			"write the value into the script, or read it from a file with < FILE"
	case "vi", "vim", "nvim", "nano", "emacs", "pico", "ed", "joe", "mcedit":
		if !c.has("--batch", "-batch", "-es", "-s") {
			return name + " is an editor", "write the file under first_boot.files, or change it with sed"
		}
	case "less", "more", "man", "top", "htop", "dialog", "whiptail", "watch":
		return name + " waits for a key press", "remove it, or print with cat"
	case "crontab":
		if c.has("-e") {
			return "crontab -e opens an editor", "write a file below /etc/cron.d under first_boot.files"
		}
	case "rm", "cp", "mv":
		if c.has("-i", "--interactive") || c.hasShort("i") && !c.hasShort("f") {
			return name + " -i asks before each file", "remove -i"
		}
	}
	return "", ""
}

// accountTool reports tools for accounts that ask for what to set.
func accountTool(c command) (why, remedy string) {
	switch name := c.name(); name {
	case "visudo":
		if !c.has("-c", "--check") && !c.hasShort("c") {
			return "visudo opens an editor",
				"write admin: for the user, or a file below /etc/sudoers.d under first_boot.files"
		}
	case "passwd":
		if !c.has("-l", "-u", "-d", "-e", "-S", "--lock", "--unlock", "--delete", "--expire", "--status", "--stdin") {
			return "passwd asks for a new password", "log in with a key, and lock passwords with passwd -l"
		}
	case "chpasswd", "mysql_secure_installation", "mariadb-secure-installation", "chsh", "chfn":
		if name != "chsh" || !c.has("-s", "--shell") {
			return name + " asks questions", "give it the answers in a here-document, or use its options"
		}
	}
	return "", ""
}

// questioner reports tools that ask unless options have the answers.
func questioner(c command) (why, remedy string) {
	switch c.name() {
	case "ssh-keygen":
		return sshKeygenWaits(c)
	case "dpkg-reconfigure":
		if c.environment[frontend] != "noninteractive" &&
			!c.has("-fnoninteractive", "--frontend=noninteractive", "noninteractive") {
			return "dpkg-reconfigure asks questions", "add -f noninteractive"
		}
	case "openssl":
		if c.has("req") && !c.has("-subj", "-config", "-batch") && c.has("-new", "-x509", "-newkey") {
			return "openssl req asks for the subject of the certificate", "add -subj /CN=NAME"
		}
	case "gpg", "gpg2":
		if c.has("--gen-key", "--full-generate-key", "--generate-key", "--edit-key") && !c.has("--batch") {
			return "gpg asks questions", "add --batch with a parameter file"
		}
	}
	return "", ""
}

// diskTool reports tools for disks that ask what to do.
func diskTool(c command) (why, remedy string) {
	switch name := c.name(); name {
	case "fdisk", "gdisk", "cfdisk", "parted":
		if name == "parted" && (c.has("-s", "--script") || c.hasShort("s")) || c.has("-l", "--list") {
			return "", ""
		}
		return name + " asks for its next step",
			"define the disk with filesystem and mount under disks, or use sfdisk or parted -s"
	case "cryptsetup":
		if c.has("luksFormat") && !c.has("-q", "--batch-mode") {
			return "cryptsetup luksFormat asks for a confirmation and a passphrase",
				"add --batch-mode and --key-file FILE"
		}
	}
	return "", ""
}

func sshKeygenWaits(c command) (why, remedy string) {
	for _, mode := range []string{"-A", "-l", "-y", "-R", "-F", "-H", "-B", "-L", "-i", "-e", "-s"} {
		if c.has(mode) {
			return "", ""
		}
	}
	if c.has("-N") && c.has("-f") {
		return "", ""
	}
	for _, argument := range c.words[1:] {
		// -N '' may be written as -N"" and then is the bare option.
		if strings.HasPrefix(argument, "-N") && c.has("-f") {
			return "", ""
		}
	}
	return "ssh-keygen asks for a file name or a passphrase", "add -f FILE and -N ''"
}

// confirmer returns what a program asks before it acts, even if its input is
// redirected, unless an option says yes. A pipe from yes(1) answers it.
func confirmer(program string) func(command) (why, remedy string) {
	switch program {
	case "apt", "apt-get", "aptitude":
		return aptAsks
	case "dnf", "dnf5":
		return asks("y", []string{"-y", "--assumeyes", "--assumeno"}, "install", "remove", "erase", "upgrade", "update",
			"reinstall", "downgrade", "distro-sync", "autoremove", "groupinstall", "swap")
	case "yum":
		return asks("y", []string{"-y", "--assumeyes"}, "install", "remove", "erase", "upgrade", "update", "reinstall",
			"downgrade", "autoremove", "groupinstall")
	case "zypper":
		return asks("", []string{"-y", "--no-confirm", "-n", "--non-interactive"}, "install", "in", "remove", "rm",
			"update", "up", "patch", "dist-upgrade", "dup")
	case "pkg":
		return pkgAsks
	case "pacman":
		return pacmanAsks
	case "adduser":
		return adduserAsks
	}
	return nil
}

// asks returns a confirmer for the verbs that ask and the options that answer.
// short is the letter that answers within a group of short options.
func asks(short string, answers []string, verbs ...string) func(command) (why, remedy string) {
	return func(c command) (why, remedy string) {
		if c.fed || c.has(answers...) || short != "" && c.hasShort(short) {
			return "", ""
		}
		for _, operand := range c.operands() {
			if slices.Contains(verbs, operand) {
				return fmt.Sprintf("%s %s asks for confirmation", c.name(), operand), "add " + answers[0]
			}
		}
		return "", ""
	}
}

func aptAsks(c command) (why, remedy string) {
	// Two q mean yes as well (apt-get(8)).
	for _, argument := range c.words[1:] {
		if argument == "-qq" || strings.HasPrefix(argument, "-q=2") || argument == "--yes" ||
			argument == "--assume-yes" ||
			strings.HasPrefix(argument, "-s") || strings.Contains(argument, "APT::Get::Assume-Yes") {
			return "", ""
		}
	}
	return asks("y", []string{"-y", "--yes", "--assume-yes", "--download-only", "--simulate", "--dry-run"},
		"install", "reinstall", "remove", "purge", "upgrade", "dist-upgrade", "full-upgrade", "safe-upgrade",
		"autoremove", "autopurge", "build-dep")(c)
}

func pkgAsks(c command) (why, remedy string) {
	if answer := strings.ToLower(c.environment[assumeYes]); answer == "yes" || answer == "true" ||
		answer == "1" {
		return "", ""
	}
	return asks("y", []string{"-y", "--yes"}, "install", "delete", "remove", "upgrade", "autoremove", "bootstrap")(c)
}

func pacmanAsks(c command) (why, remedy string) {
	if c.fed || c.has("--noconfirm") {
		return "", ""
	}
	for _, argument := range c.words[1:] {
		switch {
		case (argument == "-Sy" || argument == "-Syy") && len(c.operands()) == 0:
			// Refreshing the index asks nothing.
		case argument == "--sync" || argument == "--remove" || argument == "--upgrade",
			strings.HasPrefix(argument, "-S") && !strings.ContainsAny(argument, "sigl"),
			strings.HasPrefix(argument, "-R"), strings.HasPrefix(argument, "-U"):
			return "pacman " + argument + " asks for confirmation", "add --noconfirm"
		}
	}
	return "", ""
}

// adduserAsks is about Debian's adduser, which asks for a password and a name.
// Elsewhere, adduser is useradd and never asks, but has other options.
func adduserAsks(c command) (why, remedy string) {
	if c.fed || c.has("--disabled-password", "--disabled-login", "--system", "--group", "--quiet") ||
		len(c.operands()) != 1 || c.hasShort("D") || c.hasShort("S") || c.hasShort("r") || c.hasShort("m") {
		return "", ""
	}
	return "adduser asks for a password and a name", "define the user under users, or use useradd"
}
