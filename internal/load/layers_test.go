package load

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/language"
)

// layered is a definition whose kits, machines and variants combine in every way.
const layered = `stavren: 1
fleet: tide-office
images: {bookworm: {os: debian-12}, trixie: {os: debian-13}}
networks: {quay: {subnet: 10.44.7.0/24}}
keys: {ops: {file: keys/ops.pub}}
kits:
  base:
    image: bookworm
    resources: {cpus: 1, memory: 1GiB}
    users:
      mira: {groups: [adm], keys: [ops]}
      jonas: {}
    first_boot: {packages: [chrony, curl]}
  shore:
    kits: [base]
    resources: {memory: 2GiB}
    users: {mira: {groups: [dialout, adm]}, jonas: none}
    labels: {team: tides, coast: west}
    first_boot:
      packages: [socat, curl]
      files: {/etc/motd: {text: "from the kit"}}
machines:
  almanac:
    kits: [shore]
    resources: {cpus: 4}
    labels: {coast: east}
    users: {eyd: {}}
    first_boot:
      files: {/etc/motd: {file: scripts/tables.sh}}
  store:
    kits: [base, shore]
    labels: none
    users: none
    first_boot: {packages: none}
  gauge:
    kits: [base]
    copies: 3
    nics: {quay: {address: 10.44.7.30}}
    ports: {buoys: {host: 4000, machine: 4000, protocol: udp}, ssh: {machine: 22}}
variants:
  rehearsal:
    machines:
      almanac: {image: trixie, resources: {memory: 512MiB}, users: {eyd: none}}
      gauge: {copies: 2}
`

func readLayered(t *testing.T, variant string) *fleet.Fleet {
	t.Helper()
	f, err := Parse(t.Context(), beside, "test.stavren.yaml", []byte(layered), Options{Variant: variant})
	if err != nil {
		t.Fatal(report(err))
	}
	return f
}

// values writes the rows of a sheet that aren't defaults, with their origins.
func values(m *fleet.Machine) map[string]string {
	rows := map[string]string{}
	for _, row := range language.Sheet(m) {
		if !row.Origin.IsDefault() {
			where := fmt.Sprintf(" (%d", row.Origin.Line)
			if row.Origin.Via != "" {
				where += " " + row.Origin.Via
			}
			rows[row.Path] = row.Value + where + ")"
		}
	}
	return rows
}

func TestLayersMeet(t *testing.T) {
	for _, c := range []struct {
		machine, variant string
		want             map[string]string
		absent           []string
	}{
		{"almanac", "", map[string]string{
			"image": "bookworm (8 kit base)", "resources.cpus": "4 (25)", "resources.memory": "2GiB (16 kit shore)",
			"users.mira.groups": "adm, dialout (17 kit shore)", "users.mira.keys": "ops (11 kit base)",
			"labels": "team: tides, coast: east (26)", "first_boot.packages": "chrony, curl, socat (20 kit shore)",
			"first_boot.files./etc/motd.file": "scripts/tables.sh, 2 lines, 22 bytes (29)", "kits": "base, shore (24)",
		}, []string{"users.jonas.admin", "first_boot.files./etc/motd.text"}},
		{"almanac", "rehearsal", map[string]string{
			"image": "trixie (43 variant rehearsal)", "resources.cpus": "4 (25)",
			"resources.memory": "512MiB (43 variant rehearsal)",
		}, []string{"users.eyd.admin"}},
		{"store", "", map[string]string{"resources.memory": "2GiB (16 kit shore)"},
			[]string{"labels", "users.mira.groups", "first_boot.packages"}},
		{"gauge-3", "", map[string]string{"nics.quay.address": "10.44.7.32 (38)", "ports.buoys.host": "4002 (39)",
			"copies": "3 (37)"}, nil},
	} {
		t.Run(c.machine, func(t *testing.T) {
			m := readLayered(t, c.variant).Machine(c.machine)
			if m == nil {
				t.Errorf("there is no machine %s", c.machine)
				return
			}
			got := values(m)
			for path, want := range c.want {
				if got[path] != want {
					t.Errorf("%s %s: %s is %q, want %q", c.machine, c.variant, path, got[path], want)
				}
			}
			for _, path := range c.absent {
				if value, found := got[path]; found {
					t.Errorf("%s %s: %s is %q, want nothing", c.machine, c.variant, path, value)
				}
			}
		})
	}
}

func TestCopies(t *testing.T) {
	f := readLayered(t, "")
	if f.Machine("gauge") != nil || f.Machine("gauge-4") != nil || len(f.Machines) != 5 {
		t.Fatalf("%d machines", len(f.Machines))
	}
	seen := map[string]bool{}
	for i := 1; i <= 3; i++ {
		m := f.Machine(fmt.Sprintf("gauge-%d", i))
		for _, own := range []string{m.HostName, m.NICs[0].Address.String(), m.NICs[0].HardwareAddress,
			fmt.Sprint(m.Ports[0].Host), fmt.Sprint(m.Ports[1].Host), m.Disks[0].Serial} {
			if seen[own] {
				t.Errorf("%s is shared by two copies", own)
			}
			seen[own] = true
		}
	}
	if rehearsal := readLayered(t, "rehearsal"); rehearsal.Machine("gauge-3") != nil {
		t.Error("the variant's number of copies is not taken")
	}
}

// TestMachinesShareNothing checks that a change to one machine doesn't affect others
// built from the same kit.
func TestMachinesShareNothing(t *testing.T) {
	f := readLayered(t, "")
	a, b := f.Machine("gauge-1"), f.Machine("gauge-2")
	a.Users[0].Groups[0] = "changed"
	a.Users[0].FullName = "changed"
	a.FirstBoot.Packages[0] = "changed"
	a.NICs[0].Network = "changed"
	if b.Users[0].Groups[0] == "changed" || b.Users[0].FullName == "changed" || b.FirstBoot.Packages[0] == "changed" ||
		b.NICs[0].Network == "changed" {
		t.Error("two copies share a part")
	}
}

func TestUse(t *testing.T) {
	files := fstest.MapFS{
		"main.stavren.yaml": {Data: []byte("stavren: 1\nfleet: main\nuse: [shared/common.stavren.yaml]\n" +
			"machines:\n  a: {kits: [shore]}\n")},
		"shared/common.stavren.yaml": {Data: []byte("stavren: 1\nfleet: common\nuse: [keys.stavren.yaml]\n" +
			"images: {i: {os: debian-12, file: i.qcow2}}\nkits: {shore: {image: i, users: {mira: {keys: [ops]}}}}\n" +
			"machines: {not-brought: {}}\n")},
		"shared/keys.stavren.yaml": {Data: []byte("stavren: 1\nkeys: {ops: {file: ops.pub}}\n")},
		"shared/ops.pub":           beside["keys/ops.pub"],
		"circle.stavren.yaml":      {Data: []byte("stavren: 1\nfleet: x\nuse: [round.stavren.yaml]\n")},
		"round.stavren.yaml":       {Data: []byte("stavren: 1\nuse: [circle.stavren.yaml]\n")},
		"broken.stavren.yaml": {Data: []byte("stavren: 1\nfleet: x\n" +
			"use: [unversioned.stavren.yaml, none.stavren.yaml, ../x.stavren.yaml]\n")},
		"unversioned.stavren.yaml": {Data: []byte("imgaes: {}\nimages: {i: {os: 7}}\n")},
		"twice.stavren.yaml": {Data: []byte("stavren: 1\nfleet: x\nuse: [shared/common.stavren.yaml]\n" +
			"kits: {shore: {}}\n")},
	}
	f, err := Load(t.Context(), files, "main.stavren.yaml", Options{})
	if err != nil {
		t.Fatal(report(err))
	}
	m := f.Machine("a")
	if len(f.Machines) != 1 || f.Image("i").Folder != "shared" || f.Key("ops").File != "shared/ops.pub" ||
		m.Users[0].Name != "mira" {
		t.Errorf("machines %d, image %+v, key %+v", len(f.Machines), f.Image("i"), f.Key("ops"))
	}
	if origin := m.OriginOf("image"); origin.Via != "kit shore" || origin.File != "shared/common.stavren.yaml" {
		t.Errorf("the image comes from %+v", origin)
	}
	for name, want := range map[string]string{
		"circle.stavren.yaml": "round.stavren.yaml:2:7: error: circle: definitions use each other in a circle: " +
			"circle.stavren.yaml, then round.stavren.yaml, then circle.stavren.yaml",
		"broken.stavren.yaml": "broken.stavren.yaml:3:33: error: file-unreadable: cannot read the definition " +
			"\"none.stavren.yaml\": file does not exist\n" +
			"broken.stavren.yaml:3:52: error: path-outside-folder: \"use\" names \"../x.stavren.yaml\", which is " +
			"not below the definition's folder\n" +
			"unversioned.stavren.yaml:1:1: error: unknown-key: a definition has no key \"imgaes\"\n" +
			"unversioned.stavren.yaml:1:1: error: missing-key: a definition needs the key \"stavren\"\n" +
			"unversioned.stavren.yaml:2:18: error: wrong-type: \"os\" must be text, but this is the number 7",
		"twice.stavren.yaml": "twice.stavren.yaml:4:8: error: repeated-key: the kit \"shore\" is defined twice",
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Load(t.Context(), files, name, Options{})
			var got []string
			for _, fault := range Faults(err) {
				got = append(got, fault.String())
			}
			if strings.Join(got, "\n") != want && !sameLines(got, want) {
				t.Errorf("%s:\n got %s\nwant %s", name, strings.Join(got, "\n"), want)
			}
		})
	}
}

// sameLines compares without order, since two faults can have the same place.
func sameLines(got []string, want string) bool {
	lines := strings.Split(want, "\n")
	if len(got) != len(lines) {
		return false
	}
	for _, line := range lines {
		if !slices.Contains(got, line) {
			return false
		}
	}
	return true
}

func TestKitFaults(t *testing.T) {
	head := "stavren: 1\nfleet: x\nimages: {i: {os: debian-12}}\n"
	for _, c := range []struct{ name, text, want string }{
		{"the whole circle is named", "kits: {a: {kits: [b]}, b: {kits: [c]}, c: {kits: [a]}}\n" +
			"machines: {m: {image: i, kits: [a]}}\n",
			"kits include each other in a circle: a, then b, then c, then a"},
		{"a fault in a kit is reported once, at the kit",
			"kits: {a: {resources: {cpus: two}}}\nmachines: {m: {image: i, kits: [a]}, n: {image: i, kits: [a]}}\n",
			"test.stavren.yaml:4:30: error: wrong-type"},
		{"an unused kit is read too", "kits: {a: {cpus: 2}}\n", "test.stavren.yaml:4:12: error: unknown-key"},
		{"a variant that is not chosen is read too", "machines: {m: {image: i}}\n" +
			"variants: {v: {machines: {m: {image: 7}}}}\n", "test.stavren.yaml:5:38: error: wrong-type"},
		{"what no kit brought cannot be taken away",
			"kits: {a: {}}\nmachines: {m: {image: i, kits: [a], users: none}}\n", "nothing-inherited"},
		{"too many copies", "machines: {m: {image: i, copies: 1001}}\n", "out-of-range"},
		{"copies past the last port", "machines: {m: {image: i, copies: 9, ports: {p: {host: 65530, machine: 1}}}}\n",
			"counting up from the first copy, port p of m-7 would be 65536"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := parseText(head + c.text)
			faults := Faults(err)
			if len(faults) != 1 || !strings.Contains(faults[0].String(), c.want) {
				t.Errorf("%s: got %s\nwant %s", c.name, report(err), c.want)
			}
		})
	}
}

func TestUnknownVariant(t *testing.T) {
	_, err := Parse(t.Context(), beside, "test.stavren.yaml", []byte(layered), Options{Variant: "reharsal"})
	if err == nil || !strings.Contains(err.Error(), `did you mean "rehearsal"?`) || Faults(err) != nil {
		t.Errorf("error %v", err)
	}
}

// TestSecretsAreNotRepeated writes secrets where they don't belong. No message
// contains them, and their line is marked as not to be shown.
func TestSecretsAreNotRepeated(t *testing.T) {
	head := "stavren: 1\nfleet: x\nimages: {i: {os: debian-12}}\n"
	for _, user := range []string{
		"machines: {m: {image: i, users: {mira: {password: Hunter.2}}}}",
		"machines: {m: {image: i, users: {mira: {password: 7777777}}}}",
		"machines: {m: {image: i, users: {mira: {password: [Hunter.2]}}}}",
		"machines: {m: {image: i, users: {mira: {password_hash: Hunter.2}}}}",
		"machines: {m: {image: i, users: {mira: {password: {text: Hunter.2}}}}}",
		"machines: {m: {image: i, console: {kind: graphical, password: Hunter.2}}}",
		"secrets: {door: Hunter.2}", "secrets: {door: {env: DOOR, Hunter.2: x}}",
		"secrets: {door: {env: DOOR, text: Hunter.2}}",
		"keys: {k: Hunter.2}", "keys: {k: {text: 7777777}}",
	} {
		_, err := parseText(head + user + "\n")
		faults := Faults(err)
		if len(faults) != 1 || !faults[0].Secret {
			t.Errorf("%s: %s", user, report(err))
		}
		if text := report(err); strings.Contains(text, "Hunter") || strings.Contains(text, "7777777") {
			t.Errorf("%s: %s", user, text)
		}
	}
}

func TestVariantWithoutMachine(t *testing.T) {
	const text = "stavren: 1\nfleet: x\nimages: {i: {os: debian-12}}\nmachines:\n  a: {image: i}\n  b: {image: i}\n" +
		"variants:\n  small: {machines: {a: none}}\n"
	for variant, want := range map[string]int{"": 2, "small": 1} {
		t.Run(variant, func(t *testing.T) {
			f, err := Parse(t.Context(), beside, "test.stavren.yaml", []byte(text), Options{Variant: variant})
			if err != nil || len(f.Machines) != want || f.Machines[want-1].Name != "b" {
				t.Errorf("%q: %v, %v", variant, f, err)
			}
		})
	}
}

// TestFillingFaultsComeWithOthers checks that a template's faults are reported in the
// same run as those of the definition.
func TestFillingFaultsComeWithOthers(t *testing.T) {
	const text = "stavren: 1\nfleet: x\nimages: {i: {os: debian-12, sails: 2}}\nmachines:\n  a:\n    image: i\n" +
		"    first_boot: {files: {/a: {fill: true, text: \"{{ if }}\"}, /b: {fill: true, text: \"{{ machine `b` " +
		"`address` }}\"}}}\n"
	_, err := Parse(t.Context(), beside, "test.stavren.yaml", []byte(text), Options{})
	var rules []string
	for _, fault := range Faults(err) {
		rules = append(rules, fault.Rule)
	}
	if got := strings.Join(rules, " "); got != "unknown-key filling-failed" {
		t.Errorf("reported %s: %v", got, err)
	}
}
