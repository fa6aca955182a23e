package conformance

import (
	"compress/gzip"
	"encoding/base64"
	"io"
	"strings"
	"testing"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/render"
)

// userDataOf reads a machine's user data back out of a format.
func userDataOf(t *testing.T, target string, files map[string]render.File, m *fleet.Machine) string {
	t.Helper()
	plain := func(text any) string { return text.(string) }
	unpacked := func(text any) string {
		data, err := base64.StdEncoding.DecodeString(text.(string))
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	switch target {
	case "heat":
		data := at(t, decoded(t, files["hostile.heat.yaml"]), "resources/"+m.Name+"/properties/user_data")
		if replaced, is := data.(map[string]any); is {
			data = at(t, replaced, "str_replace/template")
		}
		return plain(data)
	case "cloudformation":
		return plain(at(t, decoded(t, files["hostile.cloudformation.json"]), "Resources/Tide/Properties/UserData/Fn::Base64"))
	case "arm":
		for _, resource := range decoded(t, files["hostile.arm.json"])["resources"].([]any) {
			if at(t, resource, "type") == "Microsoft.Compute/virtualMachines" {
				return unpacked(at(t, resource, "properties/osProfile/customData"))
			}
		}
	case "gce":
		return plain(at(t, decoded(t, files["tide/instance.json"]), "metadata/items/0/value"))
	case "oci":
		return unpacked(at(t, decoded(t, files["tide/instance.json"]), "metadata/user_data"))
	case "droplet":
		return plain(at(t, decoded(t, files["tide/droplet.json"]), "user_data"))
	}
	t.Fatalf("no user data for %s", target)
	return ""
}

// TestHostileTextsInClouds puts every hostile text into a file of the first boot
// and into labels, and reads both back.
func TestHostileTextsInClouds(t *testing.T) {
	for _, name := range clouds {
		target, err := stavren.Target(name)
		if err != nil {
			t.Fatal(err)
		}
		carried := 0
		for _, text := range hostile {
			f := load(t, "    users: {mira: {keys: [ops]}}\n    resources: {cpus: 1, memory: 1GiB}\n    first_boot: {files: {/etc/tide: {text: %s}}}\nkeys: {ops: {text: \""+opsKey+"\"}}\nplatforms: {heat: {sizes: {small: {cpus: 1, memory: 1GiB}}}}", text)
			if f == nil || refuses(target, f) {
				continue
			}
			carried++
			files := golden.Render(t, target, f)
			data := userDataOf(t, name, files, f.Machines[0])
			var document struct {
				Files []struct {
					Content, Encoding string
				} `yaml:"write_files"`
			}
			if err := yaml.Load([]byte(data), &document); err != nil {
				t.Fatalf("%s: %v\n%s", name, err, data)
			}
			got := document.Files[0].Content
			if document.Files[0].Encoding == "b64" {
				raw, err := base64.StdEncoding.DecodeString(got)
				if err != nil {
					t.Fatal(err)
				}
				got = string(raw)
			}
			if got != f.Machines[0].FirstBoot.Files[0].Text {
				t.Errorf("%s: %.60q came back as %.60q", name, text, got)
			}
		}
		if carried < len(hostile)/2 {
			t.Errorf("%s takes %d texts of %d", name, carried, len(hostile))
		}
		labelled := load(t, "    users: {mira: {keys: [ops]}}\n    labels: {note: %s}\nkeys: {ops: {text: \""+opsKey+"\"}}\nplatforms: {heat: {sizes: {small: {cpus: 1, memory: 1GiB}}}}", "[parameters('x')] ${y}")
		if labelled == nil || refuses(target, labelled) {
			continue
		}
		want := "[parameters('x')] ${y}"
		all := ""
		for _, file := range golden.Render(t, target, labelled) {
			all += string(file.Data)
		}
		if name == "arm" {
			want = "[" + want // which stands for one bracket that begins no expression
		}
		if !strings.Contains(all, want) {
			t.Errorf("%s: the label %q is not there as it is", name, want)
		}
	}
}

const opsKey = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIIETOlNLJsV0HX5EIsg8Ah/pNotUh2YheSPdoPzML5fE mira"

// TestCompressed holds that data over a platform's limit is packed where the
// platform takes it, comes back whole, and is refused where it does not.
func TestCompressed(t *testing.T) {
	text := strings.Repeat("# the tide at the reef\n", 4000)
	for name, packed := range map[string]bool{"cloudformation": true, "arm": true, "oci": true, "gce": false, "heat": false, "droplet": false} {
		target, err := stavren.Target(name)
		if err != nil {
			t.Fatal(err)
		}
		f := load(t, "    users: {mira: {keys: [ops]}}\n    resources: {cpus: 1, memory: 1GiB}\n    first_boot: {scripts: {a: {text: %s}}}\nkeys: {ops: {text: \""+opsKey+"\"}}\nplatforms: {heat: {sizes: {small: {cpus: 1, memory: 1GiB}}}}", text)
		if refused := refuses(target, f); refused != (name == "heat" || name == "droplet") {
			t.Errorf("%s: refused %v", name, refused)
		}
		if refuses(target, f) {
			continue
		}
		files := golden.Render(t, target, f)
		var data string
		if name == "cloudformation" {
			data = at(t, decoded(t, files["hostile.cloudformation.json"]), "Resources/Tide/Properties/UserData").(string)
			raw, err := base64.StdEncoding.DecodeString(data)
			if err != nil {
				t.Fatal(err)
			}
			data = string(raw)
		} else {
			data = userDataOf(t, name, files, f.Machines[0])
		}
		if packed {
			reader, err := gzip.NewReader(strings.NewReader(data))
			if err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			unpacked, err := io.ReadAll(reader)
			if err != nil {
				t.Fatal(err)
			}
			data = string(unpacked)
		}
		if !strings.HasPrefix(data, "#cloud-config\n") || strings.Count(data, "# the tide at the reef\n") != 4000 {
			t.Errorf("%s: the data comes back as %.40q, %d bytes", name, data, len(data))
		}
	}
}
