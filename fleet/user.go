package fleet

import "time"

// AdminRights says how a user becomes the administrator.
type AdminRights string

// The admin rights of the language.
const (
	NoAdmin              AdminRights = "no"
	AdminWithPassword    AdminRights = "with-password"
	AdminWithoutPassword AdminRights = "without-password"
)

// User is an account that is created at first boot.
type User struct {
	Origins
	Name     string
	FullName string `key:"full_name"`
	// UID is the account's number, or 0 for the next free one.
	UID    int         `key:"uid"`
	Groups []string    `key:"groups"`
	Admin  AdminRights `key:"admin"`
	// Shell is the login shell's path, or empty for the system's default.
	Shell string `key:"shell"`
	// Home is the home folder's path, or empty for the system's default.
	Home string `key:"home"`
	// Keys names the fleet's keys that may log in.
	Keys []string `key:"keys"`
	// Password names the secret that holds the password, or is empty.
	Password string `key:"password"`
	// PasswordHash is the password hashed in the form of crypt(5), or empty.
	PasswordHash string `key:"password_hash"`
	// Locked forbids logging in with a password.
	Locked bool `key:"locked"`
	// Expires is the last day of the account, or zero.
	Expires time.Time `key:"expires"`
}
