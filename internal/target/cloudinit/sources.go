package cloudinit

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
)

// packageSources renders where packages come from, under the key that the
// system's package manager has in cloud-config (cc_apt_configure,
// cc_yum_add_repo, cc_zypper_add_repo), as keys and values for mapping.
func packageSources(sources []*fleet.PackageSource, system catalog.System) ([]any, error) {
	if len(sources) == 0 {
		return nil, nil
	}
	byName := &yaml.Node{Kind: yaml.MappingNode}
	switch manager := system.Family.PackageManager; manager {
	case "apt":
		for _, source := range sources {
			suite := source.Suite
			if suite == "" {
				suite = "./"
			}
			line := strings.Join(append([]string{"deb", source.URL, suite}, source.Components...), " ")
			byName.Content = append(byName.Content, node(source.Name+".list"), mapping("source", line, "key", optional(source.Key)))
		}
		return []any{"apt", mapping("sources", byName)}, nil
	case "dnf":
		for _, source := range sources {
			byName.Content = append(byName.Content, node(source.Name),
				mapping("name", source.Name, "baseurl", source.URL, "enabled", true, "gpgcheck", false))
			if source.Key != "" {
				return nil, fmt.Errorf("package source %s: the key of a dnf repository has to be installed by a script", source.Name)
			}
		}
		return []any{"yum_repos", byName}, nil
	case "zypper":
		var list []*yaml.Node
		for _, source := range sources {
			if source.Key != "" {
				return nil, fmt.Errorf("package source %s: the key of a zypper repository has to be installed by a script", source.Name)
			}
			list = append(list, mapping("id", source.Name, "name", source.Name, "baseurl", source.URL, "enabled", 1))
		}
		return []any{"zypper", mapping("repos", list)}, nil
	}
	return nil, fmt.Errorf("package sources of %s cannot be said in first-boot data; write them with a file", system.Title)
}
