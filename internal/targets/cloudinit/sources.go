package cloudinit

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/quote"
)

// sourceData is what package sources become: keys of cloud-config, files, and lines
// that boot commands add to existing files.
type sourceData struct {
	keys     []any
	files    []*yaml.Node
	commands []*yaml.Node
}

// packageSources renders repositories in the form of the system's package manager
// (cc_apt_configure, cc_yum_add_repo, cc_zypper_add_repo; apk, pacman and pkg read
// files of their own).
func packageSources(sources []*fleet.PackageSource, system catalog.System) sourceData {
	var data sourceData
	if len(sources) == 0 {
		return data
	}
	byName := &yaml.Node{Kind: yaml.MappingNode}
	file := func(path, text string) {
		data.files = append(data.files, writeFile(path, text, "0644", "root:"+system.Family.RootGroup, false))
	}
	// rpmKey writes a source's key where rpm's kin look, and returns its URL.
	rpmKey := func(source *fleet.PackageSource) any {
		if source.Key == "" {
			return nil
		}
		path := "/etc/pki/rpm-gpg/RPM-GPG-KEY-" + source.Name
		file(path, source.Key)
		return "file://" + path
	}
	switch system.Family.PackageManager {
	case "apt":
		for _, source := range sources {
			suite := source.Suite
			if suite == "" {
				suite = "./"
			}
			line := strings.Join(append([]string{"deb", source.URL, suite}, source.Components...), " ")
			byName.Content = append(byName.Content, node(source.Name+".list"),
				mapping("source", line, "key", optional(source.Key)))
		}
		data.keys = []any{"apt", mapping("sources", byName)}
	case "dnf":
		for _, source := range sources {
			byName.Content = append(byName.Content, node(source.Name),
				mapping("name", source.Name, "baseurl", source.URL,
					"enabled", true, "gpgcheck", source.Key != "", "gpgkey", rpmKey(source)))
		}
		data.keys = []any{"yum_repos", byName}
	case "zypper":
		var list []*yaml.Node
		for _, source := range sources {
			check := 0
			if source.Key != "" {
				check = 1
			}
			list = append(list, mapping("id", source.Name, "name", source.Name, "baseurl", source.URL, "enabled", 1,
				"autorefresh", 1,
				"gpgcheck", check, "gpgkey", rpmKey(source)))
		}
		data.keys = []any{"zypper", mapping("repos", list)}
	case "apk":
		for _, source := range sources {
			if source.Key != "" {
				file("/etc/apk/keys/"+source.Name+".rsa.pub", source.Key)
			}
			data.commands = append(data.commands, command(addLine, "/etc/apk/repositories", source.URL))
		}
	case "pacman":
		for _, source := range sources {
			level := "Optional TrustAll"
			if source.Key != "" {
				level = "Required"
				file("/etc/pacman.d/"+source.Name+".key", source.Key)
				data.commands = append(data.commands,
					command(`pacman-key --add "$1" && pacman-key --lsign-key "$(gpg --show-keys --with-colons "$1" | awk -F: '$1 == "fpr" {print $10; exit}')" || :`, "/etc/pacman.d/"+source.Name+".key"))
			}
			path := "/etc/pacman.d/" + source.Name + ".conf"
			file(path, fmt.Sprintf("[%s]\nServer = %s\nSigLevel = %s\n", source.Name, source.URL, level))
			data.commands = append(data.commands, command(addLine, "/etc/pacman.conf", "Include = "+path))
		}
	case "pkg":
		for _, source := range sources {
			text := fmt.Sprintf("%s: {\n  url: %s\n  enabled: yes\n", source.Name, quote.JSON(source.URL))
			if source.Key != "" {
				path := "/usr/local/etc/pkg/keys/" + source.Name + ".pub"
				file(path, source.Key)
				text += fmt.Sprintf("  signature_type: \"pubkey\"\n  pubkey: %s\n", quote.JSON(path))
			}
			file("/usr/local/etc/pkg/repos/"+source.Name+".conf", text+"}\n")
		}
	}
	return data
}
