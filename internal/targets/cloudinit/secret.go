package cloudinit

import (
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"strings"

	"github.com/go-crypt/crypt/algorithm/shacrypt"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/render"
)

// passwordRounds is twice the default of crypt(5): some milliseconds per password,
// both for people who render and for people who guess.
const passwordRounds = 10000

// hashPassword hashes a password with SHA-512 as crypt(5) describes ($6$). The salt
// is derived from the names, so that the same input gives the same bytes and no two
// accounts share a salt. It isn't derived from the password, since a salt is readable
// and would be a fast way to test guesses.
func hashPassword(f *fleet.Fleet, m *fleet.Machine, user *fleet.User, password string) (string, error) {
	sum := sha256.Sum256([]byte(strings.Join([]string{"salt", f.Name, m.Name, user.Name}, "\x00")))
	// The alphabet of salts is ./0-9A-Za-z (crypt(5)), with at most 16 characters.
	salt := strings.NewReplacer("-", ".", "_", "/").Replace(base64.RawURLEncoding.EncodeToString(sum[:12]))
	hasher, err := shacrypt.New(shacrypt.WithSHA512(), shacrypt.WithIterations(passwordRounds))
	if err != nil {
		return "", fmt.Errorf("hashing the password of %s: %w", user.Name, err)
	}
	digest, err := hasher.HashWithSalt(password, []byte(salt))
	if err != nil {
		return "", fmt.Errorf("hashing the password of %s: %w", user.Name, err)
	}
	return digest.Encode(), nil
}

// reveal returns a text with its secrets filled in, and reports whether it has any.
func reveal(job *render.Job, content *fleet.Content) (text string, secret bool, err error) {
	text, err = content.Reveal(job.Secret)
	return text, content.HasSecrets(), err
}
