package check

import (
	"crypto/rsa"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
)

func keyRules() []rule {
	return []rule{
		ofFleet("key-private", finding.Error, keyPrivate),
		ofFleet("key-malformed", finding.Error, keyMalformed),
		ofFleet("key-weak", finding.Warning, keyWeak),
		ofFleet("key-with-options", finding.Warning, keyWithOptions),
		ofFleet("key-defined-twice", finding.Warning, keyDefinedTwice),
		ofMachine("key-shared-by-people", finding.Advice, keySharedByPeople),
	}
}

func keyPrivate(r reporter, f *fleet.Fleet) {
	for _, key := range f.Keys {
		if !isPrivate(key.Text) {
			continue
		}
		remedy := "write the public key there, the one line that ssh-keygen -y prints for the private key"
		if key.File != "" {
			remedy = "name " + key.File + ".pub instead, if that is its public key; ssh-keygen -y makes one"
		}
		r.report(finding.OfKey(key), "key %s is a private key", key.Name).
			remedy("%s. If the definition was shared, replace the key pair", remedy).
			secret()
	}
}

// isPrivate reports whether a text has the armour of a private key: PEM, or the
// form of PuTTY.
func isPrivate(text string) bool {
	return strings.Contains(text, "PRIVATE KEY-----") || strings.HasPrefix(text, "PuTTY-User-Key-File")
}

func keyMalformed(r reporter, f *fleet.Fleet) {
	for _, key := range f.Keys {
		if isPrivate(key.Text) {
			continue // another rule reports it
		}
		if fault := publicKeyFault(key.Text); fault != "" {
			r.report(finding.OfKey(key), "key %s %s", key.Name, fault).
				remedy("paste the whole line of the .pub file: the type, the long base64 part and a comment")
		}
	}
}

// publicKeyFault says why a text isn't one public key, or returns "".
func publicKeyFault(text string) string {
	if strings.TrimSpace(text) == "" {
		return "is empty"
	}
	_, _, _, rest, err := ssh.ParseAuthorizedKey([]byte(text))
	if err != nil {
		return "is not a public SSH key"
	}
	if strings.TrimSpace(string(rest)) != "" {
		return "has more than one line"
	}
	return ""
}

// eachPublicKey visits the keys of a fleet that are public keys.
func eachPublicKey(f *fleet.Fleet, visit func(key *fleet.Key, parsed ssh.PublicKey, options []string)) {
	for _, key := range f.Keys {
		if parsed, _, options, _, err := ssh.ParseAuthorizedKey([]byte(key.Text)); err == nil {
			visit(key, parsed, options)
		}
	}
}

// shortestRSA is the shortest RSA key in bits that is considered safe
// (NIST SP 800-57, part 1, beyond 2030).
const shortestRSA = 3072

func keyWeak(r reporter, f *fleet.Fleet) {
	eachPublicKey(f, func(key *fleet.Key, parsed ssh.PublicKey, _ []string) {
		if kind := weakKind(parsed); kind != "" {
			r.report(finding.OfKey(key), "key %s is %s", key.Name, kind).
				remedy("make a new pair with ssh-keygen -t ed25519")
		}
	})
}

// weakKind says what kind of weak key a public key is, or returns "".
func weakKind(parsed ssh.PublicKey) string {
	switch parsed.Type() {
	case "ssh-dss": // the ssh package deprecates its own name for it
		return "a DSA key, which servers refuse"
	case ssh.KeyAlgoRSA:
		if key, ok := parsed.(ssh.CryptoPublicKey); ok {
			if public, ok := key.CryptoPublicKey().(*rsa.PublicKey); ok && public.N.BitLen() < shortestRSA {
				return fmt.Sprintf("an RSA key of only %d bits", public.N.BitLen())
			}
		}
	}
	return ""
}

func keyWithOptions(r reporter, f *fleet.Fleet) {
	eachPublicKey(f, func(key *fleet.Key, _ ssh.PublicKey, options []string) {
		if len(options) > 0 {
			r.report(finding.OfKey(key), "key %s starts with options for the SSH server", key.Name).
				remedy("remove everything before the type of the key, or accept it with a reason")
		}
	})
}

func keyDefinedTwice(r reporter, f *fleet.Fleet) {
	first := map[string]*fleet.Key{}
	eachPublicKey(f, func(key *fleet.Key, parsed ssh.PublicKey, _ []string) {
		earlier := first[string(parsed.Marshal())]
		if earlier == nil {
			first[string(parsed.Marshal())] = key
			return
		}
		r.report(finding.OfKey(key), "key %s is the same as key %s", key.Name, earlier.Name).
			remedy("keep one of the two names, or paste the key that was meant").
			see(finding.OfKey(earlier), "the same key")
	})
}

func keySharedByPeople(r reporter, _ *fleet.Fleet, m *fleet.Machine) {
	holder := map[string]*fleet.User{}
	for _, user := range m.Users {
		for _, name := range user.Keys {
			first := holder[name]
			if first == nil {
				holder[name] = user
				continue
			}
			r.report(finding.OfUserItem(m, user, "keys", name),
				"users %s and %s of machine %s log in with the same key %s",
				first.Name, user.Name, m.Name, name).
				remedy("give each a key of their own")
		}
	}
}
