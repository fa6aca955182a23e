package language

import (
	"time"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/document"
)

var userTable = newTable("a user", finishUser, func() []field[fleet.User] {
	return []field[fleet.User]{
		{
			key: "full_name", doc: "The person's name.",
			example: "Mira Holm",
			value:   text(accountWord, func(u *fleet.User) *string { return &u.FullName }),
		},
		{
			key: "uid", doc: "Number of the account.",
			def: "the next free one", example: "1500",
			value: integer(1, 60000, "a number such as 1500", func(u *fleet.User) *int { return &u.UID }),
		},
		{
			key: "groups", doc: "Additional groups.",
			example: "[adm]",
			value:   words("groups", userName, func(u *fleet.User) *[]string { return &u.Groups }),
		},
		{
			key: "admin", doc: "Whether the user can act as administrator.",
			def: "no", example: "without-password",
			value: choice(func(u *fleet.User) *fleet.AdminRights { return &u.Admin }, fleet.AdminWithPassword,
				fleet.AdminWithoutPassword, fleet.NoAdmin),
		},
		{
			key: "shell", doc: "Login shell.",
			def: "the system's usual one", example: "/bin/bash",
			value: word(accountPath, func(u *fleet.User) *string { return &u.Shell }),
		},
		{
			key: "home", doc: "Home folder.",
			def: "the system's usual one", example: "/home/mira",
			value: word(accountPath, func(u *fleet.User) *string { return &u.Home }),
		},
		{
			key: "keys", doc: "Names of the keys that can log in.",
			example: "[ops]",
			value:   words("key names", label, func(u *fleet.User) *[]string { return &u.Keys }),
		},
		{
			key: "password", doc: "Name of the secret that has the password. It is hashed when rendered.",
			example: "mira-password",
			value:   secretName(func(u *fleet.User) *string { return &u.Password }),
		},
		{
			key: "password_hash", doc: "The password hashed as crypt(5) does.",
			example: "\"$6$saltsaltsalt$hash\"",
			value:   passwordHash(func(u *fleet.User) *string { return &u.PasswordHash }),
		},
		{
			key: "locked", doc: "Forbid logging in with the password.",
			def: "false", example: "true",
			value: boolean(func(u *fleet.User) *bool { return &u.Locked }),
		},
		{
			key: "expires", doc: "Last day of the account.",
			example: "2027-12-31",
			value:   date(func(u *fleet.User) *time.Time { return &u.Expires }),
		},
	}
})

func finishUser(r *Reader, u *fleet.User) {
	if u.Password != "" && u.PasswordHash != "" {
		r.AddAt(document.TextAndFile, u.PlaceOf(fleet.Itself),
			"the user "+quoted(u.Name)+" has both password and password_hash", "keep one of the two")
	}
}

var sshTable = newTable[fleet.SSH]("ssh", nil, func() []field[fleet.SSH] {
	return []field[fleet.SSH]{
		{
			key: "root_login", doc: "How root can log in.",
			def: "no", example: "by-key",
			value: choice(func(s *fleet.SSH) *fleet.RootLogin { return &s.RootLogin }, fleet.NoRootLogin,
				fleet.RootLoginByKey, fleet.RootLoginByAnyWay),
		},
		{
			key: "password_login", doc: "Let users log in with a password.",
			def: "false", example: "true",
			value: boolean(func(s *fleet.SSH) *bool { return &s.PasswordLogin }),
		},
	}
})
