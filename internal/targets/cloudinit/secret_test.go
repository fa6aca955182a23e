package cloudinit_test

import (
	"fmt"
	"os/exec"
	"strings"
	"testing"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// TestPasswordHash compares the hash with that of another program that writes such
// hashes (crypt(5)).
func TestPasswordHash(t *testing.T) {
	f, m := machine(func(f *fleet.Fleet, m *fleet.Machine) {
		f.Secrets = []*fleet.Secret{{Name: "door", Env: "DOOR"}}
		m.Users = []*fleet.User{{Name: "mira", Password: "door"}, {Name: "jonas", Password: "door"},
			{Name: "eyd", PasswordHash: "$6$salt$hash", Locked: true}}
	})
	render := func(password string) (map[string]any, string) {
		job := &render.Job{Fleet: f, Options: render.Options{Secrets: func(*fleet.Secret) (string,
			error) {
			return password, nil
		}}}
		files, err := cloudinit.Files(job, m, cloudinit.Virtio)
		if err != nil {
			t.Fatal(err)
		}
		if files[0].Mode != 0o600 {
			t.Errorf("user data with a password has mode %v", files[0].Mode)
		}
		var document map[string]any
		if err := yaml.Load(files[0].Data, &document); err != nil {
			t.Fatal(err)
		}
		return document, string(files[0].Data)
	}
	document, text := render("high water")
	if strings.Contains(text, "high water") {
		t.Error("the password itself stands in the data")
	}
	// chpasswd would run after accounts are locked, and undo that.
	if document["chpasswd"] != nil {
		t.Errorf("chpasswd is %v", document["chpasswd"])
	}
	hashes := map[string]string{}
	for _, entry := range document["users"].([]any) {
		entry := entry.(map[string]any)
		hashes[entry["name"].(string)] = entry["passwd"].(string)
	}
	if hashes["mira"] == hashes["jonas"] || hashes["eyd"] != "$6$salt$hash" {
		t.Errorf("hashes: %v", hashes)
	}
	if _, again := render("high water"); again != text {
		t.Error("the same password gives other bytes")
	}
	if _, other := render("low water"); other == text {
		t.Error("another password gives the same bytes")
	}
	var locked []string
	for _, user := range document["users"].([]any) {
		locked = append(locked, fmt.Sprint(user.(map[string]any)["lock_passwd"]))
	}
	if strings.Join(locked, " ") != "false false true" {
		t.Errorf("lock_passwd: %v", locked)
	}
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		t.Skip("openssl is not installed here")
	}
	parts := strings.Split(hashes["mira"], "$")
	out, err := exec.Command(openssl, "passwd", "-6", "-salt", parts[2]+"$"+parts[3], "high water").Output()
	if err != nil || strings.TrimSpace(string(out)) != hashes["mira"] {
		t.Errorf("openssl makes %q of it, %v; the data has %q", out, err, hashes["mira"])
	}
}

// TestGuessing tries what someone could do who reads everything but the files with
// secrets: find out which of some guesses is right by fast hashes.
func TestGuessing(t *testing.T) {
	f, m := machine(func(f *fleet.Fleet, m *fleet.Machine) {
		f.Secrets = []*fleet.Secret{{Name: "door", Env: "DOOR"}}
		m.Users = []*fleet.User{{Name: "mira", Password: "door"}}
		m.FirstBoot.Files = []*fleet.File{{Path: "/f", Mode: 0o600,
			Content: fleet.Content{Text: "door="}}}
		m.FirstBoot.Files[0].AppendSecret("door")
	})
	files := func(secret string) []render.File {
		t.Helper()
		read := func(*fleet.Secret) (string, error) { return secret, nil }
		files, err := cloudinit.Files(&render.Job{Fleet: f, Options: render.Options{Secrets: read}}, m,
			cloudinit.Virtio)
		if err != nil {
			t.Fatal(err)
		}
		return files
	}
	salt := func(files []render.File) string {
		_, rest, _ := strings.Cut(string(files[0].Data), "$6$rounds=10000$")
		salt, _, _ := strings.Cut(rest, "$")
		return salt
	}
	right, wrong := files("high water"), files("low water")
	if salt(right) == "" || salt(right) != salt(wrong) {
		t.Errorf("the salt %q depends on the password, as %q does", salt(right), salt(wrong))
	}
	metaData := string(right[1].Data)
	if metaData == string(wrong[1].Data) {
		t.Error("the instance id doesn't change with the secret")
	}
	if metaData != string(files("high water")[1].Data) {
		t.Error("the same secret gives another instance id")
	}
	// The id over the user data itself, which a guess would give.
	guess, err := cloudinit.MetaData(m, right[0].Data)
	if err != nil || string(guess) == metaData {
		t.Errorf("the instance id is a fast hash of data with the secret: %s, %v", guess, err)
	}
}

func TestSecretsAreNeeded(t *testing.T) {
	f, m := machine(func(f *fleet.Fleet, m *fleet.Machine) {
		f.Secrets = []*fleet.Secret{{Name: "door", Env: "DOOR"}}
		file := &fleet.File{Path: "/f", Content: fleet.Content{Text: "a"}}
		file.AppendSecret("door")
		file.Text += "b"
		file.AppendSecret("door")
		m.FirstBoot.Files = []*fleet.File{file}
	})
	if _, err := cloudinit.Files(&render.Job{Fleet: f}, m, cloudinit.Virtio); err == nil ||
		!strings.Contains(err.Error(), `the secret "door" is needed`) {
		t.Errorf("without a way to read secrets: %v", err)
	}
	job := &render.Job{Fleet: f, Options: render.Options{Secrets: func(*fleet.Secret) (string, error) {
		return "🚪'$",
			nil
	}}}
	files, err := cloudinit.Files(job, m, cloudinit.Virtio)
	if err != nil {
		t.Fatal(err)
	}
	var document map[string]any
	if err := yaml.Load(files[0].Data, &document); err != nil {
		t.Fatal(err)
	}
	if got := document["write_files"].([]any)[0].(map[string]any)["content"]; got != "a🚪'$b🚪'$" ||
		files[0].Mode != 0o600 {
		t.Errorf("content %q, mode %v", got, files[0].Mode)
	}
}
