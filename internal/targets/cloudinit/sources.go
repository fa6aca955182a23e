package cloudinit

import (
	"cmp"
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
	// owner is the owner of the files.
	owner    string
	keys     []any
	files    []*yaml.Node
	commands []*yaml.Node
}

// packageSources renders repositories in the form of the system's package manager.
func packageSources(sources []*fleet.PackageSource, system catalog.System) sourceData {
	data := sourceData{owner: "root:" + system.Family.RootGroup}
	if len(sources) == 0 {
		return data
	}
	switch system.Family.PackageManager {
	case "apt":
		data.apt(sources)
	case "dnf":
		data.dnf(sources)
	case "zypper":
		data.zypper(sources)
	case "apk":
		data.apk(sources)
	case "pacman":
		data.pacman(sources)
	case "pkg":
		data.pkg(sources)
	}
	return data
}

func (d *sourceData) file(path, text string) {
	d.files = append(d.files, writeFile(path, text, "0644", d.owner, false))
}

// rpmKey writes a source's key where RPM looks for keys, and returns its URL.
func (d *sourceData) rpmKey(source *fleet.PackageSource) any {
	if source.Key == "" {
		return nil
	}
	path := "/etc/pki/rpm-gpg/RPM-GPG-KEY-" + source.Name
	d.file(path, source.Key)
	return "file://" + path
}

// apt uses cc_apt_configure.
func (d *sourceData) apt(sources []*fleet.PackageSource) {
	byName := &yaml.Node{Kind: yaml.MappingNode}
	for _, source := range sources {
		suite := source.Suite
		if suite == "" {
			suite = "./"
		}
		line := strings.Join(append([]string{"deb", source.URL, suite}, source.Components...), " ")
		byName.Content = append(byName.Content, node(source.Name+".list"),
			mapping("source", line, "key", optional(source.Key)))
	}
	d.keys = []any{"apt", mapping("sources", byName)}
}

// dnf uses cc_yum_add_repo.
func (d *sourceData) dnf(sources []*fleet.PackageSource) {
	byName := &yaml.Node{Kind: yaml.MappingNode}
	for _, source := range sources {
		byName.Content = append(byName.Content, node(source.Name),
			mapping("name", source.Name, "baseurl", source.URL,
				"enabled", true, "gpgcheck", source.Key != "", "gpgkey", d.rpmKey(source)))
	}
	d.keys = []any{"yum_repos", byName}
}

// zypper uses cc_zypper_add_repo.
func (d *sourceData) zypper(sources []*fleet.PackageSource) {
	var list []*yaml.Node
	for _, source := range sources {
		check := 0
		if source.Key != "" {
			check = 1
		}
		list = append(list, mapping("id", source.Name, "name", source.Name, "baseurl", source.URL,
			"enabled", 1, "autorefresh", 1, "gpgcheck", check, "gpgkey", d.rpmKey(source)))
	}
	d.keys = []any{"zypper", mapping("repos", list)}
}

// apk reads apk-repositories(5) and the keys beside it.
func (d *sourceData) apk(sources []*fleet.PackageSource) {
	for _, source := range sources {
		if source.Key != "" {
			d.file("/etc/apk/keys/"+cmp.Or(source.KeyName, source.Name+".rsa.pub"), source.Key)
		}
		d.commands = append(d.commands, command(addLine, "/etc/apk/repositories", source.URL))
	}
}

// trustKey adds a key to pacman's keyring and signs it locally, which pacman requires.
const trustKey = `pacman-key --add "$1" && ` +
	`pacman-key --lsign-key "$(gpg --show-keys --with-colons "$1" | awk -F: '$1 == "fpr" {print $10; exit}')" || :`

// writeEarly writes a file, which write_files does only after boot commands ran.
const writeEarly = `mkdir -p "$(dirname "$1")" && printf %s "$2" >"$1"`

// pacman reads files that pacman.conf(5) includes.
func (d *sourceData) pacman(sources []*fleet.PackageSource) {
	for _, source := range sources {
		level := "Optional TrustAll"
		if source.Key != "" {
			level = "Required"
			path := "/etc/pacman.d/" + source.Name + ".key"
			d.commands = append(d.commands, command(writeEarly, path, source.Key), command(trustKey, path))
		}
		path := "/etc/pacman.d/" + source.Name + ".conf"
		d.file(path, fmt.Sprintf("[%s]\nServer = %s\nSigLevel = %s\n", source.Name, source.URL, level))
		d.commands = append(d.commands, command(addLine, "/etc/pacman.conf", "Include = "+path))
	}
}

// pkg reads one file per repository (pkg.conf(5)).
func (d *sourceData) pkg(sources []*fleet.PackageSource) {
	for _, source := range sources {
		text := fmt.Sprintf("%s: {\n  url: %s\n  enabled: yes\n", source.Name, quote.JSON(source.URL))
		if source.Key != "" {
			path := "/usr/local/etc/pkg/keys/" + source.Name + ".pub"
			d.file(path, source.Key)
			text += fmt.Sprintf("  signature_type: \"pubkey\"\n  pubkey: %s\n", quote.JSON(path))
		}
		d.file("/usr/local/etc/pkg/repos/"+source.Name+".conf", text+"}\n")
	}
}
