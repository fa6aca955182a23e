package conformance

import (
	"compress/gzip"
	"encoding/base64"
	"io"
	"slices"
	"strings"
	"testing"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets"
)

const opsKey = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIIETOlNLJsV0HX5EIsg8Ah/pNotUh2YheSPdoPzML5fE mira"

// onCloud returns a definition of one machine for every cloud, with a part of it.
func onCloud(part string) string {
	return "    users: {mira: {keys: [ops]}}\n    resources: {cpus: 1, memory: 1GiB}\n    " + part +
		"\nkeys: {ops: {text: \"" + opsKey + "\"}}\nplatforms: {heat: {sizes: {small: {cpus: 1, memory: 1GiB}}}}"
}

// writtenFile returns the first file that user data writes.
func writtenFile(t *testing.T, data []byte) string {
	t.Helper()
	var document struct {
		Files []struct {
			Content, Encoding string
		} `yaml:"write_files"`
	}
	if err := yaml.Load(data, &document); err != nil {
		t.Fatalf("%v\n%s", err, data)
	}
	content := document.Files[0].Content
	if document.Files[0].Encoding != "b64" {
		return content
	}
	raw, err := base64.StdEncoding.DecodeString(content)
	if err != nil {
		t.Fatal(err)
	}
	return string(raw)
}

// TestHostileTextsInClouds puts every hostile text into a file of the first boot and
// reads it back.
func TestHostileTextsInClouds(t *testing.T) {
	for _, target := range targets.Clouds() {
		t.Run(target.Name, func(t *testing.T) {
			carried := 0
			for _, text := range hostile {
				f := loaded(t, onCloud("first_boot: {files: {/etc/tide: {text: %s}}}"), text)
				if f == nil || refuses(target.Target, f) {
					continue
				}
				carried++
				m := f.Machines[0]
				reading := readMachine(t, target, f, golden.Render(t, target.Target, f), m)
				if got := writtenFile(t, reading.UserData); got != m.FirstBoot.Files[0].Text {
					t.Errorf("%.60q came back as %.60q", text, got)
				}
			}
			if carried < len(hostile)/2 {
				t.Errorf("it takes %d texts of %d", carried, len(hostile))
			}
		})
	}
}

// TestHostileLabelsInClouds reads labels back that look like expressions.
func TestHostileLabelsInClouds(t *testing.T) {
	for _, target := range targets.Clouds() {
		t.Run(target.Name, func(t *testing.T) {
			const text = "[parameters('x')] ${y}"
			f := loaded(t, onCloud("labels: {note: %s}"), text)
			if f == nil || refuses(target.Target, f) {
				return
			}
			reading := readMachine(t, target, f, golden.Render(t, target.Target, f), f.Machines[0])
			if !slices.Contains(reading.Labels, fleet.Pair{Key: "note", Value: text}) {
				t.Errorf("the labels come back as %v", reading.Labels)
			}
		})
	}
}

// TestCompressed checks that data over a platform's limit is compressed if the
// platform takes it, comes back whole, and is refused otherwise.
func TestCompressed(t *testing.T) {
	const line = "# the tide at the reef\n"
	for _, target := range targets.Clouds() {
		t.Run(target.Name, func(t *testing.T) {
			boot := target.Cloud.FirstBoot
			f := loaded(t, onCloud("first_boot: {scripts: {a: {text: %s}}}"), strings.Repeat(line, 4000))
			tooLarge := 4000*len(line) > boot.Limit
			if refused := refuses(target.Target, f); refused != (tooLarge && !boot.Compressible) {
				t.Fatalf("refused: %v", refused)
			}
			if tooLarge && !boot.Compressible {
				return
			}
			data := readMachine(t, target, f, golden.Render(t, target.Target, f), f.Machines[0]).UserData
			if tooLarge {
				reader, err := gzip.NewReader(strings.NewReader(string(data)))
				if err != nil {
					t.Fatal(err)
				}
				if data, err = io.ReadAll(reader); err != nil {
					t.Fatal(err)
				}
			}
			if !strings.HasPrefix(string(data), "#cloud-config\n") || strings.Count(string(data), line) != 4000 {
				t.Errorf("the data comes back as %.40q, %d bytes", data, len(data))
			}
		})
	}
}
