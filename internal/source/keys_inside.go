package source

import (
	"io/fs"
	"regexp"
	"strings"
	"time"

	"stavren.example/stavren/fleet"
)

var userTable = newTable("a user", finishUser,
	field[fleet.User]{key: "full_name", doc: "The person's name.", example: "Mira Holm",
		kind: text(accountWord, func(u *fleet.User) *string { return &u.FullName })},
	field[fleet.User]{key: "uid", doc: "Number of the account.", standard: "the next free one", example: "1500",
		kind: whole(1, 60000, "a number such as 1500", func(u *fleet.User) *int { return &u.UID })},
	field[fleet.User]{key: "groups", doc: "Further groups.", example: "[adm]",
		kind: words("groups", userName, func(u *fleet.User) *[]string { return &u.Groups })},
	field[fleet.User]{key: "admin", doc: "May act as the administrator.", standard: "no", example: "without-password",
		kind: choice(func(u *fleet.User) *fleet.AdminRights { return &u.Admin }, fleet.AdminWithPassword, fleet.AdminWithoutPassword, fleet.NoAdmin)},
	field[fleet.User]{key: "shell", doc: "Login shell.", standard: "the system's usual one", example: "/bin/bash",
		kind: word(insidePath, func(u *fleet.User) *string { return &u.Shell })},
	field[fleet.User]{key: "home", doc: "Home folder.", standard: "the system's usual one", example: "/home/mira",
		kind: word(insidePath, func(u *fleet.User) *string { return &u.Home })},
	field[fleet.User]{key: "keys", doc: "Names of the keys that may log in.", example: "[ops]",
		kind: words("key names", label, func(u *fleet.User) *[]string { return &u.Keys })},
	field[fleet.User]{key: "password", doc: "Name of the secret that holds the password; hashed when rendered.", example: "mira-password",
		kind: secretName(func(u *fleet.User) *string { return &u.Password })},
	field[fleet.User]{key: "password_hash", doc: "The password hashed as crypt(5) does.", example: "\"$6$saltsaltsalt$hash\"",
		kind: passwordHash(func(u *fleet.User) *string { return &u.PasswordHash })},
	field[fleet.User]{key: "locked", doc: "Forbid to log in by password even if there is one.", standard: "false", example: "true",
		kind: truth(func(u *fleet.User) *bool { return &u.Locked })},
	field[fleet.User]{key: "expires", doc: "Last day of the account.", example: "2027-12-31",
		kind: date(func(u *fleet.User) *time.Time { return &u.Expires })},
)

func finishUser(r *reader, u *fleet.User) {
	if u.Password != "" && u.PasswordHash != "" {
		r.faultAt(ruleBothContents, u.PlaceOf(fleet.Itself), "the user "+quoted(u.Name)+" has both password and password_hash", "keep one of the two")
	}
}

// secretName is the name of a secret. A password typed in by mistake is never
// repeated, whatever its form.
func secretName[T any](at func(*T) *string) kind[T] {
	return secretText("name of a secret", "is not the name of a secret",
		"never type a password into a definition; define where it is read from under secrets, and write its name here", func(text string) bool { return label(text) == "" }, at)
}

var hashPattern = regexp.MustCompile(`^\$[0-9a-z]+\$[ -9;-~]+$`)

func passwordHash[T any](at func(*T) *string) kind[T] {
	return secretText("hash", "is not a hash as crypt(5) makes it, such as $6$…",
		"make one with `openssl passwd -6`, or name a secret under password", hashPattern.MatchString, at)
}

func secretText[T any](name, fault, remedy string, good func(string) bool, at func(*T) *string) kind[T] {
	return kind[T]{
		name: name, clear: zero(at), schema: textSchema,
		print: func(of *T) string {
			if name == "hash" && *at(of) != "" {
				return "given, not shown"
			}
			return *at(of)
		},
		read: func(r *reader, l layer, into *T) bool {
			if isNull(l.node) {
				r.emptyValue(l)
				return false
			}
			if l.node.Tag != "!!str" || !good(l.node.Value) {
				r.secretFault(ruleBadValue, l, r.here()+" "+fault, remedy)
				return false
			}
			*at(into) = l.node.Value
			return true
		},
	}
}

var sshTable = newTable[fleet.SSH]("ssh", nil,
	field[fleet.SSH]{key: "root_login", doc: "How root may log in.", standard: "no", example: "by-key",
		kind: choice(func(s *fleet.SSH) *fleet.RootLogin { return &s.RootLogin }, fleet.NoRootLogin, fleet.RootLoginByKey, fleet.RootLoginByAnyWay)},
	field[fleet.SSH]{key: "password_login", doc: "Users may log in by password.", standard: "false", example: "true",
		kind: truth(func(s *fleet.SSH) *bool { return &s.PasswordLogin })},
)

var timeTable = newTable[fleet.Time]("time", nil,
	field[fleet.Time]{key: "zone", doc: "Entry of the IANA time zone database.", standard: fleet.DefaultTimeZone, example: "Atlantic/Faroe",
		kind: text(timeZone, func(x *fleet.Time) *string { return &x.Zone })},
	field[fleet.Time]{key: "servers", doc: "NTP servers.", standard: "the image's", example: "[ntp.skerry.example]",
		kind: words("time servers", serverName, func(x *fleet.Time) *[]string { return &x.Servers })},
)

var (
	timeZone = matching(regexp.MustCompile(`^[A-Za-z]+([/_+-][A-Za-z0-9]+)*$`), "is not the name of a time zone such as Atlantic/Faroe")
	locale   = matching(regexp.MustCompile(`^[A-Za-z]{1,8}(_[A-Z]{2})?(\.[A-Za-z0-9-]+)?(@[a-z]+)?$`), "is not a locale such as en_DK.UTF-8")
	layout   = matching(regexp.MustCompile(`^[a-z]{2,12}(-[a-z0-9]+)?$`), "is not a keyboard layout such as dk")
)

var firstBootTable = newTable[fleet.FirstBoot]("first_boot", nil,
	field[fleet.FirstBoot]{key: "refresh", doc: "Fetch the package index first.", standard: "true if packages or an upgrade are asked for", example: "true",
		kind: truth(func(b *fleet.FirstBoot) *bool { return &b.Refresh })},
	field[fleet.FirstBoot]{key: "upgrade", doc: "Bring every installed package up to date.", standard: "false", example: "true",
		kind: truth(func(b *fleet.FirstBoot) *bool { return &b.Upgrade })},
	field[fleet.FirstBoot]{key: "restart", doc: "Restart if the packages ask for it.", standard: "false", example: "true",
		kind: truth(func(b *fleet.FirstBoot) *bool { return &b.Restart })},
	field[fleet.FirstBoot]{key: "packages", doc: "Packages to install, by their names in the system's package manager.", example: "[nginx]",
		kind: words("packages", packageName, func(b *fleet.FirstBoot) *[]string { return &b.Packages })},
	field[fleet.FirstBoot]{key: "sources", doc: "Where packages come from beside the system's own sources, by name.", example: "{tides: {url: \"https://packages.skerry.example/debian\"}}",
		kind: named(packageSourceTable, names[fleet.FirstBoot, *fleet.PackageSource]{label, func(b *fleet.FirstBoot) *[]*fleet.PackageSource { return &b.Sources },
			func(name string) *fleet.PackageSource { return &fleet.PackageSource{Name: name} }, func(s *fleet.PackageSource) string { return s.Name }})},
	field[fleet.FirstBoot]{key: "files", doc: "Files to write, by their path inside the machine.", example: "{/etc/motd: {text: \"Tide office\\n\"}}",
		kind: named(fileTable, names[fleet.FirstBoot, *fleet.File]{insidePath, func(b *fleet.FirstBoot) *[]*fleet.File { return &b.Files },
			func(name string) *fleet.File { return &fleet.File{Path: name} }, func(f *fleet.File) string { return f.Path }})},
	field[fleet.FirstBoot]{key: "scripts", doc: "Scripts to run, by name, in this order.", example: "{tables: {text: \"systemctl enable --now nginx\\n\"}}",
		kind: named(scriptTable, names[fleet.FirstBoot, *fleet.Script]{label, func(b *fleet.FirstBoot) *[]*fleet.Script { return &b.Scripts },
			func(name string) *fleet.Script { return &fleet.Script{Name: name} }, func(s *fleet.Script) string { return s.Name }})},
	field[fleet.FirstBoot]{key: "services", doc: "Services to enable and start, after the scripts.", example: "[nginx]",
		kind: words("services", serviceName, func(b *fleet.FirstBoot) *[]string { return &b.Services })},
	field[fleet.FirstBoot]{key: "swap", doc: "Size of a swap file.", example: "1GiB",
		kind: swapSize(func(b *fleet.FirstBoot) *fleet.Bytes { return &b.Swap })},
	field[fleet.FirstBoot]{key: "guest_tools", doc: "Install the hypervisor's helper inside the machine.", standard: "false", example: "true",
		kind: truth(func(b *fleet.FirstBoot) *bool { return &b.GuestTools })},
)

// swapSize is an amount whose absence is none at all.
func swapSize(at func(*fleet.FirstBoot) *fleet.Bytes) kind[fleet.FirstBoot] {
	k := amount(fleet.MiB, at)
	k.print = func(of *fleet.FirstBoot) string {
		if *at(of) == 0 {
			return ""
		}
		return at(of).String()
	}
	return k
}

var packageSourceTable = newTable[fleet.PackageSource]("a package source", nil,
	field[fleet.PackageSource]{key: "url", doc: "Root of the repository.", example: "https://packages.skerry.example/debian", required: true,
		kind: text(matching(regexp.MustCompile(`^(https?|file)://[!-~]+$`), "is not an address such as https://packages.skerry.example/debian"), func(s *fleet.PackageSource) *string { return &s.URL })},
	field[fleet.PackageSource]{key: "suite", doc: "Suite, for apt.", standard: "./, a repository without suites", example: "bookworm",
		kind: text(oneLine, func(s *fleet.PackageSource) *string { return &s.Suite })},
	field[fleet.PackageSource]{key: "components", doc: "Components, for apt.", example: "[main]",
		kind: words("components", shortText, func(s *fleet.PackageSource) *[]string { return &s.Components })},
	field[fleet.PackageSource]{key: "key", doc: "Armoured public key that its packages are signed with.", example: "\"-----BEGIN PGP PUBLIC KEY BLOCK-----\"",
		kind: text(nil, func(s *fleet.PackageSource) *string { return &s.Key })},
)

var fileTable = withContent(newTable[fleet.File]("a file", nil,
	append(contentFields(false, "\"Tide office\\n\"", "site/index.html", func(f *fleet.File) *fleet.Content { return &f.Content }),
		field[fleet.File]{key: "fill", doc: "Run the content through text/template first, see Filling.", standard: "false", example: "true",
			kind: truth(func(f *fleet.File) *bool { return &f.Fill })},
		field[fleet.File]{key: "mode", doc: "Permissions, in octal digits.", standard: "0644", example: "\"0600\"", kind: fileMode()},
		field[fleet.File]{key: "owner", doc: "Owner and group.", standard: fleet.DefaultFileOwner, example: "root:adm",
			kind: text(fileOwner, func(f *fleet.File) *string { return &f.Owner })},
	)...))

func fileMode() kind[fleet.File] {
	at := func(f *fleet.File) *fs.FileMode { return &f.Mode }
	return kind[fleet.File]{
		name: "octal digits", clear: zero(at), print: func(of *fleet.File) string { return fleet.FormatMode(of.Mode) },
		schema: func() schema { return schema{"type": []string{"string", "integer"}} },
		read: func(r *reader, l layer, into *fleet.File) bool {
			top, ok := r.scalar(l, "octal digits", "\"0644\"")
			if !ok {
				return false
			}
			mode, err := fleet.ParseMode(top.node.Value)
			if err != nil || mode == fs.FileMode(0) {
				r.fault(ruleBadValue, top, r.here()+" is "+quoted(top.node.Value)+", which is not three or four octal digits", "write it like \"0644\"")
				return false
			}
			into.Mode = mode
			return true
		},
	}
}

func fileOwner(text string) string {
	user, group, both := strings.Cut(text, ":")
	if !both || userName(user) != "" || userName(group) != "" {
		return "has to be a user and a group with a colon between, such as root:adm"
	}
	return ""
}

var scriptTable = withContent(newTable[fleet.Script]("a script", nil,
	append(contentFields(false, "\"systemctl enable --now nginx\\n\"", "scripts/tables.sh", func(s *fleet.Script) *fleet.Content { return &s.Content }),
		field[fleet.Script]{key: "fill", doc: "Run the content through text/template first, see Filling.", standard: "false", example: "true",
			kind: truth(func(s *fleet.Script) *bool { return &s.Fill })},
		field[fleet.Script]{key: "when", doc: "How often it runs.", standard: "once", example: "every-boot",
			kind: choice(func(s *fleet.Script) *fleet.When { return &s.When }, fleet.Once, fleet.EveryBoot)},
		field[fleet.Script]{key: "run_as", doc: "Account that it runs as.", standard: "root", example: "mira",
			kind: word(userName, func(s *fleet.Script) *string { return &s.RunAs })},
	)...))
