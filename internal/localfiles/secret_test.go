package localfiles_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/localfiles"
)

func TestReadSecret(t *testing.T) {
	folder := t.TempDir()
	for name, text := range map[string]string{"in/secret": "high water\r\n", "in/empty": "\n", "outside": "x",
		"in/large": strings.Repeat("x", 70000)} {
		path := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	files := localfiles.Files{Folder: folder}
	environment := []string{"DOOR=a=b", "DOORS=no", "EMPTY="}
	for _, c := range []struct {
		secret       fleet.Secret
		allowOutside bool
		want, fault  string
	}{
		{fleet.Secret{Env: "DOOR"}, false, "a=b", ""},
		{fleet.Secret{Env: "EMPTY"}, false, "", "EMPTY is not set"},
		{fleet.Secret{Env: "NONE"}, false, "", "NONE is not set"},
		{fleet.Secret{File: "secret", Folder: "in"}, false, "high water", ""},
		{fleet.Secret{File: "empty", Folder: "in"}, false, "", "is empty"},
		{fleet.Secret{File: "large", Folder: "in"}, false, "", "is larger than 64KiB"},
		{fleet.Secret{File: "none", Folder: "in"}, false, "", "no such file"},
		{fleet.Secret{File: "../outside", Folder: "in"}, false, "", "is not below the definition's folder"},
		{fleet.Secret{File: "../outside", Folder: "in"}, true, "x", ""},
		{fleet.Secret{File: filepath.Join(folder, "outside"), Folder: "in"}, true, "x", ""},
	} {
		t.Run(c.want, func(t *testing.T) {
			got, err := files.ReadSecret(&c.secret, environment, c.allowOutside)
			if got != c.want || (err == nil) != (c.fault == "") || err != nil &&
				!strings.Contains(err.Error(), c.fault) {
				t.Errorf("%+v: got %q, %v", c.secret, got, err)
			}
		})
	}
}
