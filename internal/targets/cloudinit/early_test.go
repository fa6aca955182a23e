package cloudinit_test

import (
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// TestMountsOfShares runs the boot command that mounts a share, by every shell that is
// /bin/sh somewhere, at several boots: the table of mounts has one line for it.
func TestMountsOfShares(t *testing.T) {
	for _, shell := range []string{"dash", "bash", "busybox sh"} {
		t.Run(shell, func(t *testing.T) {
			words := strings.Fields(shell)
			if _, err := exec.LookPath(words[0]); err != nil {
				t.Skipf("%s is not installed here", words[0])
			}
			table := filepath.Join(t.TempDir(), "fstab")
			if err := os.WriteFile(table, []byte("LABEL=root / ext4 defaults 0 1\n"), 0o644); err != nil {
				t.Fatal(err)
			}
			at := filepath.Join(t.TempDir(), "the charts")
			for _, boot := range []struct {
				readOnly bool
				options  string
			}{{false, "defaults,nofail"}, {false, "defaults,nofail"}, {true, "defaults,nofail,ro"}} {
				runEarly(t, words, table, at, boot.readOnly)
				want := "LABEL=root / ext4 defaults 0 1\ncharts " + strings.ReplaceAll(at, " ", `\040`) + " virtiofs " +
					boot.options + " 0 0\n"
				if got, err := os.ReadFile(table); err != nil || string(got) != want {
					t.Errorf("%v, got\n%swant\n%s", err, got, want)
				}
			}
			if _, err := os.Stat(at); err != nil {
				t.Error(err)
			}
		})
	}
}

// runEarly runs the boot commands of a machine with a share, on another table of mounts.
func runEarly(t *testing.T, shell []string, table, at string, readOnly bool) {
	t.Helper()
	f, m := machine(func(_ *fleet.Fleet, m *fleet.Machine) {
		m.Shares = []*fleet.Share{{Name: "charts", Host: "charts", Machine: at, ReadOnly: readOnly}}
	})
	files, err := cloudinit.Files(&render.Job{Fleet: f}, m, cloudinit.Virtio)
	if err != nil {
		t.Fatal(err)
	}
	var data struct {
		BootCommands [][]string `yaml:"bootcmd"`
	}
	if err := yaml.Load(files[0].Data, &data); err != nil {
		t.Fatal(err)
	}
	if len(data.BootCommands) == 0 {
		t.Fatal("there are no boot commands")
	}
	for _, command := range data.BootCommands {
		script := "mount() { :; }; mountpoint() { :; }; " + strings.ReplaceAll(command[2], "/etc/fstab", table)
		c := exec.Command(shell[0], append(append(shell[1:len(shell):len(shell)], "-c", script), command[3:]...)...)
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
}

func TestNeighbours(t *testing.T) {
	f, m := machine(func(f *fleet.Fleet, m *fleet.Machine) {
		f.Networks = []*fleet.Network{{Name: "reef", Mode: fleet.Isolated, Subnet: fleet.DefaultSubnet}}
		for _, name := range []string{"gauge", "store"} {
			f.Machines = append(f.Machines, &fleet.Machine{Name: name, Image: m.Image, Domain: "skerry.example",
				NICs: []*fleet.NIC{{Name: "reef", Address: netip.MustParseAddr("10.177.0." +
					fmt.Sprint(3+len(f.Machines)))}}})
		}
	})
	data, err := cloudinit.UserData(&render.Job{Fleet: f}, m, cloudinit.Virtio)
	if err != nil {
		t.Fatal(err)
	}
	var document struct {
		BootCommands [][]string `yaml:"bootcmd"`
	}
	if err := yaml.Load(data.Text, &document); err != nil {
		t.Fatal(err)
	}
	hosts := filepath.Join(t.TempDir(), "hosts")
	if err := os.WriteFile(hosts, []byte("127.0.0.1 localhost\n10.177.0.7 old # neighbour in tide-office\n"),
		0o644); err != nil {
		t.Fatal(err)
	}
	words := document.BootCommands[0]
	words[2] = strings.ReplaceAll(words[2], "/etc/hosts", hosts)
	want := "127.0.0.1 localhost\n10.177.0.4 gauge.skerry.example gauge # neighbour in tide-office\n" +
		"10.177.0.5 store.skerry.example store # neighbour in tide-office\n"
	for range 2 {
		if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		got, err := os.ReadFile(hosts)
		if err != nil {
			t.Fatal(err)
		}
		if string(got) != want {
			t.Errorf("got\n%s", got)
		}
	}
}
