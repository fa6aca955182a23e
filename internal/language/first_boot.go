package language

import (
	"io/fs"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
)

var firstBootTable = newTable[fleet.FirstBoot]("first_boot", nil, func() []field[fleet.FirstBoot] {
	return []field[fleet.FirstBoot]{
		{
			key: "refresh", doc: "Fetch the package index first.",
			def: "true with packages or an upgrade", example: "true",
			value: boolean(func(b *fleet.FirstBoot) *bool { return &b.Refresh }),
		},
		{
			key: "upgrade", doc: "Upgrade every installed package.",
			def: "false", example: "true",
			value: boolean(func(b *fleet.FirstBoot) *bool { return &b.Upgrade }),
		},
		{
			key: "restart", doc: "Restart if packages require it.",
			def: "false", example: "true",
			value: boolean(func(b *fleet.FirstBoot) *bool { return &b.Restart }),
		},
		{
			key: "packages", doc: "Packages to install, by their names in the system's package manager.",
			example: "[nginx]",
			value:   words("packages", packageName, func(b *fleet.FirstBoot) *[]string { return &b.Packages }),
		},
		{
			key: "sources", doc: "Package repositories in addition to the system's own, by name.",
			example: "{tides: {url: \"https://packages.skerry.example/debian\"}}",
			value: named(packageSourceTable, label,
				func(b *fleet.FirstBoot) *[]*fleet.PackageSource { return &b.Sources },
				func(n *fleet.PackageSource) *string { return &n.Name }),
		},
		{
			key: "files", doc: "Files to write, by their path inside the machine.",
			example: "{/etc/motd: {text: \"Tide office\\n\"}}",
			value: named(fileTable, insidePath, func(b *fleet.FirstBoot) *[]*fleet.File { return &b.Files },
				func(n *fleet.File) *string { return &n.Path }),
		},
		{
			key: "scripts", doc: "Scripts to run, by name, in this order.",
			example: "{tables: {text: \"systemctl enable --now nginx\\n\"}}",
			value: named(scriptTable, label, func(b *fleet.FirstBoot) *[]*fleet.Script { return &b.Scripts },
				func(n *fleet.Script) *string { return &n.Name }),
		},
		{
			key: "services", doc: "Services to enable and start, after the scripts.",
			example: "[nginx]",
			value:   words("services", serviceName, func(b *fleet.FirstBoot) *[]string { return &b.Services }),
		},
		{
			key: "swap", doc: "Size of a swap file.",
			example: "1GiB",
			value:   swapSize(func(b *fleet.FirstBoot) *fleet.Bytes { return &b.Swap }),
		},
		{
			key: "guest_tools", doc: "Install the hypervisor's helper inside the machine.",
			def: "false", example: "true",
			value: boolean(func(b *fleet.FirstBoot) *bool { return &b.GuestTools }),
		},
	}
})

// swapSize is an amount that is shown as none if there is no swap.
func swapSize(at func(*fleet.FirstBoot) *fleet.Bytes) value[fleet.FirstBoot] {
	v := amount(fleet.MiB, at)
	v.print = func(of *fleet.FirstBoot) string {
		if *at(of) == 0 {
			return ""
		}
		return at(of).String()
	}
	return v
}

var packageSourceTable = newTable[fleet.PackageSource]("a package source", nil, func() []field[fleet.PackageSource] {
	return []field[fleet.PackageSource]{
		{
			key: "url", doc: "Root of the repository.",
			example: "https://packages.skerry.example/debian", required: true,
			value: text(matching(`^(https?|file)://[!-~]+$`, "is not an address such as "+
				"https://packages.skerry.example/debian"), func(s *fleet.PackageSource) *string { return &s.URL }),
		},
		{
			key: "suite", doc: "Suite, for apt.",
			def: "./, a repository without suites", example: "bookworm",
			value: text(oneLine, func(s *fleet.PackageSource) *string { return &s.Suite }),
		},
		{
			key: "components", doc: "Components, for apt.",
			example: "[main]",
			value:   words("components", shortText, func(s *fleet.PackageSource) *[]string { return &s.Components }),
		},
		{
			key: "key", doc: "Armoured public key that its packages are signed with.",
			example: "\"-----BEGIN PGP PUBLIC KEY BLOCK-----\"",
			value:   publicKey(func(s *fleet.PackageSource) *string { return &s.Key }),
		},
		{
			key: "key_name", doc: "File name of the key, which apk looks for by the name in a signature.",
			def: "the source's name and .rsa.pub", example: "ops@skerry.example-5f1e.rsa.pub",
			value: text(keyName, func(s *fleet.PackageSource) *string { return &s.KeyName }),
		},
	}
})

var keyName = matching(`^[A-Za-z0-9][A-Za-z0-9@._+-]*$`, "can have only letters, digits and @ . _ + -")

var fileTable = withContent(newTable[fleet.File]("a file", nil, func() []field[fleet.File] {
	content := contentFields(false, "\"Tide office\\n\"", "site/index.html",
		func(f *fleet.File) *fleet.Content { return &f.Content })
	return append(content, []field[fleet.File]{
		{
			key: "fill", doc: "Fill the content with text/template; see Filling.",
			def: "false", example: "true",
			value: boolean(func(f *fleet.File) *bool { return &f.Fill }),
		},
		{
			key: "mode", doc: "Permissions, in octal digits.",
			def: "0644", example: "\"0600\"",
			value: fileMode(),
		},
		{
			key: "owner", doc: "Owner and group.",
			def: fleet.DefaultFileOwner, example: "root:adm",
			value: text(fileOwner, func(f *fleet.File) *string { return &f.Owner }),
		},
	}...)
}))

func fileMode() value[fleet.File] {
	return single(scalar[fs.FileMode]{
		name: "octal digits", want: "octal digits", example: "\"0644\"", format: fleet.FormatMode,
		schema: schema{"type": []string{"string", "integer"}},
		parse: func(r *Reader, l document.Layer) (fs.FileMode, bool) {
			mode, err := fleet.ParseMode(l.Node.Value)
			if err != nil || mode == 0 {
				r.bad(l, "three or four octal digits", "write it like \"0644\"")
				return 0, false
			}
			return mode, true
		},
	}, func(f *fleet.File) *fs.FileMode { return &f.Mode })
}

func fileOwner(text string) string {
	user, group, both := strings.Cut(text, ":")
	if !both || userName(user) != "" || userName(group) != "" {
		return "must be a user and a group with a colon between them, such as root:adm"
	}
	return ""
}

var scriptTable = withContent(newTable[fleet.Script]("a script", nil, func() []field[fleet.Script] {
	content := contentFields(false, "\"systemctl enable --now nginx\\n\"", "scripts/tables.sh",
		func(s *fleet.Script) *fleet.Content { return &s.Content })
	return append(content, []field[fleet.Script]{
		{
			key: "fill", doc: "Fill the content with text/template; see Filling.",
			def: "false", example: "true",
			value: boolean(func(s *fleet.Script) *bool { return &s.Fill }),
		},
		{
			key: "when", doc: "How often it runs.",
			def: "once", example: "every-boot",
			value: choice(func(s *fleet.Script) *fleet.When { return &s.When }, fleet.Once, fleet.EveryBoot),
		},
		{
			key: "run_as", doc: "Account that it runs as.",
			def: fleet.DefaultRunAs, example: "mira",
			value: word(userName, func(s *fleet.Script) *string { return &s.RunAs }),
		},
	}...)
}))
