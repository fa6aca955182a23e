package cloudinit

import (
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/render"
)

// users renders the accounts, and reports whether one has a password. The list has no
// entry "default", so the image's own login isn't created. A machine without users
// has an empty map for the same reason.
//
// A hash is part of its account rather than of chpasswd: that module runs after the one
// that locks passwords, and would unlock them again (cloud.cfg.tmpl; cc_users_groups
// before cc_set_passwords).
func users(job *render.Job, m *fleet.Machine, system catalog.System) (accounts kept, passwords bool, err error) {
	list := &yaml.Node{Kind: yaml.SequenceNode}
	for _, user := range m.Users {
		hash, err := passwordHash(job, m, user)
		if err != nil {
			return kept{}, false, err
		}
		passwords = passwords || hash != ""
		list.Content = append(list.Content, account(job.Fleet, user, system, hash))
	}
	if m.SSH.RootLogin != fleet.NoRootLogin {
		list.Content = append(list.Content, mapping("name", "root", "lock_passwd", true, "ssh_authorized_keys",
			adminKeys(job.Fleet, m)))
	}
	if len(list.Content) == 0 {
		// cloud-init's schema refuses an empty list but accepts an empty map.
		return kept{flow(&yaml.Node{Kind: yaml.MappingNode})}, passwords, nil
	}
	return kept{list}, passwords, nil
}

func account(f *fleet.Fleet, user *fleet.User, system catalog.System, hash string) *yaml.Node {
	groups := user.Groups
	var sudo any
	switch user.Admin {
	case fleet.AdminWithoutPassword:
		sudo = "ALL=(ALL) NOPASSWD:ALL"
		if system.Family.Name == catalog.FreeBSD && !slices.Contains(groups, system.Family.AdminGroup) {
			// Until sudo is installed, su is the way, which is for this group alone.
			groups = append(slices.Clone(groups), system.Family.AdminGroup)
		}
	case fleet.AdminWithPassword:
		if !slices.Contains(groups, system.Family.AdminGroup) {
			groups = append(slices.Clone(groups), system.Family.AdminGroup)
		}
	}
	shell := user.Shell
	if shell == "" {
		shell = system.Family.Shell
	}
	var uid, expires any
	if user.UID != 0 {
		uid = user.UID
	}
	if !user.Expires.IsZero() {
		expires = quotedNode(user.Expires.Format(time.DateOnly))
	}
	return mapping(
		"name", user.Name,
		"gecos", optional(user.FullName),
		"uid", uid,
		"groups", flow(node(groups)),
		"homedir", optional(user.Home),
		"shell", optional(shell),
		"sudo", sudo,
		"passwd", optional(hash),
		"lock_passwd", hash == "" || user.Locked,
		"expiredate", expires,
		"ssh_authorized_keys", keysOf(f, user),
	)
}

func keysOf(f *fleet.Fleet, user *fleet.User) []string {
	var keys []string
	for _, name := range user.Keys {
		if key := f.Key(name); key != nil {
			keys = append(keys, strings.TrimSpace(key.Text))
		}
	}
	return keys
}

// adminKeys returns the keys of all administrators.
func adminKeys(f *fleet.Fleet, m *fleet.Machine) []string {
	var keys []string
	for _, user := range m.Users {
		for _, key := range keysOf(f, user) {
			if user.Admin != fleet.NoAdmin && !slices.Contains(keys, key) {
				keys = append(keys, key)
			}
		}
	}
	return keys
}

func passwordHash(job *render.Job, m *fleet.Machine, user *fleet.User) (string, error) {
	if user.Password == "" {
		return user.PasswordHash, nil
	}
	password, err := job.Secret(user.Password)
	if err != nil {
		return "", err
	}
	return hashPassword(job.Fleet, m, user, password)
}
