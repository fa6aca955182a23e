package oci_test

import (
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/oci"
	"stavren.example/stavren/render"
)

func TestDemo(t *testing.T) {
	golden.Compare(t, golden.Render(t, oci.Target.Target, golden.Demo(t), golden.Machines...))
}

func definition(names ...string) *fleet.Fleet {
	return golden.OnCloud(fleet.Platform{Name: "oci", Region: "eu-stockholm-1", Zone: "ad-1", Network: "ocid1.subnet",
		Settings: []fleet.Pair{{Key: "compartment", Value: "ocid1.compartment"}, {Key: "vcn", Value: "ocid1.vcn"}}},
		"ocid1.image", names...)
}

func TestInstance(t *testing.T) {
	for _, c := range []struct {
		what   string
		change func(f *fleet.Fleet, m *fleet.Machine)
		want   map[string]any
	}{
		{"keys of administrators alone", func(f *fleet.Fleet, m *fleet.Machine) {
			m.Users[0].Admin = fleet.NoAdmin
		}, map[string]any{"metadata/ssh_authorized_keys": nil}},
		{"secure boot", func(_ *fleet.Fleet, m *fleet.Machine) {
			m.Firmware = fleet.Firmware{Kind: fleet.UEFI, SecureBoot: true, TPM: true}
			m.Platforms = []*fleet.Platform{{Name: "oci", Size: "VM.Standard.E4.Flex"}}
		}, map[string]any{"platformConfig/type": "AMD_VM", "platformConfig/isSecureBootEnabled": true}},
		{"much memory needs processors", func(_ *fleet.Fleet, m *fleet.Machine) {
			m.Resources = fleet.Resources{CPUs: 2, Memory: 200 * fleet.GiB}
			m.Platforms = []*fleet.Platform{{Name: "oci", Size: "VM.Standard.E4.Flex"}}
		}, map[string]any{"shapeConfig/ocpus": 4, "shapeConfig/memoryInGBs": 200}},
	} {
		t.Run(c.what, func(t *testing.T) {
			f := definition("almanac")
			c.change(f, f.Machines[0])
			f.Complete()
			golden.Read(t, golden.Render(t, oci.Target.Target, f)["almanac/instance.json"].Data).Wants(t, c.want)
		})
	}
}

// TestSteps looks at commands that take the body as it is, and that know their own results.
func TestSteps(t *testing.T) {
	f := definition("almanac")
	f.Machines[0].Firewall = []string{"office"}
	f.Complete()
	steps := oci.Target.Steps(&render.Job{Fleet: f}, f.Machines)
	for i, want := range []string{"NSG_ID=$(oci network nsg create ", "oci raw-request --http-method POST --target-uri " +
		"https://iaas.eu-stockholm-1.oraclecloud.com/20160918/instances/ --request-body file://almanac/instance.json"} {
		if !strings.HasPrefix(steps[i].Command, want) {
			t.Errorf("step %d is %s", i, steps[i].Command)
		}
	}
}

// TestMetadataCounts fills the metadata with keys: all of it is under the limit.
func TestMetadataCounts(t *testing.T) {
	count := func(script int, keys int) bool {
		f := definition("almanac")
		f.Machines[0].FirstBoot.Scripts = []*fleet.Script{{Name: "a", Content: fleet.Content{Text: noise(script)}}}
		for i := range keys {
			name := strings.Repeat("k", i+2)
			f.Keys = append(f.Keys, &fleet.Key{Name: name, Content: fleet.Content{Text: "ssh-rsa " + strings.Repeat("A", 5000) + name}})
			f.Machines[0].Users[0].Keys = append(f.Machines[0].Users[0].Keys, name)
		}
		f.Complete()
		for _, need := range oci.Target.Needs(f, f.Machines[0]) {
			if need.Rule == "user-data-too-large" {
				return true
			}
		}
		return false
	}
	if count(14000, 0) || !count(14000, 5) {
		t.Error("keys don't count")
	}
}

// noise is text that does not compress well.
func noise(length int) string {
	var text strings.Builder
	state := uint32(1)
	for range length {
		state = state*1664525 + 1013904223
		text.WriteByte('!' + byte(state>>24)%90)
	}
	return text.String()
}
