//go:build steps

package bounds

import (
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
)

// The program counter counts how often blocks of statements run, in our packages and in
// those that read YAML, templates and scripts.
//
// STAVREN_FUZZ is how long TestFuzzSteps goes on, as in 2m; STAVREN_SEED where it starts.

// maxSteps is how many blocks may run for a definition of a megabyte: three times what
// the worst one takes, which is well under a second without counting.
const maxSteps = 400_000_000

// counter is a running program counter.
type counter struct {
	in  io.WriteCloser
	out io.Reader
}

func startCounter(t *testing.T) *counter {
	t.Helper()
	packages, err := exec.Command("../../.ci/counted").Output()
	if err != nil {
		t.Fatal(err)
	}
	program := filepath.Join(t.TempDir(), "counter")
	build := exec.Command("go", "build", "-cover", "-covermode", "atomic", "-coverpkg", strings.TrimSpace(string(packages)),
		"-o", program, "./counter")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	run := exec.Command(program)
	run.Env = append(os.Environ(), "GOCOVERDIR="+t.TempDir())
	run.Stderr = os.Stderr
	in, err := run.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := run.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := run.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		in.Close()
		if err := run.Wait(); err != nil {
			t.Error(err)
		}
	})
	return &counter{in, out}
}

// check fails if loading and checking a definition takes too many steps.
func (c *counter) check(t *testing.T, attack attack) (n uint64) {
	t.Helper()
	request := append(binary.BigEndian.AppendUint32(nil, uint32(len(attack.text))), attack.text...)
	if _, err := c.in.Write(request); err != nil {
		t.Fatal(err)
	}
	if err := binary.Read(c.out, binary.BigEndian, &n); err != nil {
		t.Fatal(err)
	}
	if n > maxSteps {
		t.Errorf("%d million steps for %d bytes: %.200q…", n/1e6, len(attack.text), attack.text)
	}
	return n
}

func TestSteps(t *testing.T) {
	c := startCounter(t)
	for _, attack := range append(attacks(), sweeps()...) {
		if strings.HasSuffix(attack.name, " of 100000") {
			continue // refused for its length; TestSweeps has them all
		}
		t.Run(attack.name, func(t *testing.T) {
			if n := c.check(t, attack); n > maxSteps/4 {
				t.Logf("%d million steps", n/1e6)
			}
		})
	}
}

// TestFuzzSteps makes up definitions: several keys of the language with many entries
// each, of their own example or another key's, in kits, machines and copies.
func TestFuzzSteps(t *testing.T) {
	length, err := time.ParseDuration(os.Getenv("STAVREN_FUZZ"))
	if err != nil {
		length = 10 * time.Second
	}
	seed, err := strconv.ParseUint(os.Getenv("STAVREN_SEED"), 10, 64)
	if err != nil {
		seed = 1
	}
	c := startCounter(t)
	worst, tried := uint64(0), 0
	for end := time.Now().Add(length); time.Now().Before(end) && !t.Failed(); seed++ {
		definition := madeUp(rand.New(rand.NewPCG(seed, 0)))
		worst = max(worst, c.check(t, attack{text: definition}))
		tried++
		if t.Failed() {
			t.Logf("the seed is %d", seed)
		}
	}
	t.Logf("%d definitions, at most %d million steps", tried, worst/1e6)
}

// maker makes up one definition of about a megabyte.
type maker struct {
	*rand.Rand
	text strings.Builder
	room int
}

// pick returns a number up to one, which is mostly small.
func (m *maker) pick(most int) int { return 1 + int(float64(most)*m.Float64()*m.Float64()*m.Float64()) }

// madeUp returns a definition of at most about a megabyte.
func madeUp(random *rand.Rand) string {
	m := &maker{Rand: random, room: 1_000_000}
	m.text.WriteString("stavren: 1\nfleet: x\nimages: {i: {os: debian-12, file: i.qcow2}")
	images := m.pick(3000)
	for i := range images {
		fmt.Fprintf(&m.text, ", i%d: {os: debian-12}", i)
	}
	m.text.WriteString("}\nnetworks: {n: {}")
	for i := range m.pick(3000) {
		fmt.Fprintf(&m.text, ", n%d: {subnet: 10.%d.%d.0/%d}", i, i/256%256, i%256, 16+m.IntN(14))
	}
	m.text.WriteString("}\nkits: {k0: {image: i}")
	kits := m.pick(2000)
	for i := range kits {
		fmt.Fprintf(&m.text, ", k%d: {kits: [k%d]", i+1, m.IntN(i+2))
		if i < 3 {
			m.text.WriteString(m.keys())
		}
		m.text.WriteString("}")
	}
	m.text.WriteString("}\nmachines:\n")
	for i := range m.pick(3000) {
		fmt.Fprintf(&m.text, "  m%d: {image: i%d, kits: [k%d]", i, m.IntN(images+2), m.IntN(kits+2))
		if m.IntN(4) == 0 {
			fmt.Fprintf(&m.text, ", copies: %d", m.pick(1000))
		}
		if i < 3 || m.IntN(50) == 0 {
			m.text.WriteString(m.keys())
		}
		m.text.WriteString("}\n")
		if m.text.Len() > 1_000_000 {
			break
		}
	}
	return m.text.String()
}

// keys writes some keys of a machine, with many entries each.
func (m *maker) keys() string {
	all := keys()
	var text strings.Builder
	used := map[string]bool{}
	for range m.pick(6) {
		key := all[m.IntN(len(all))]
		path, inMachine := strings.CutPrefix(key.Path, "machines.NAME.")
		top, below, _ := strings.Cut(path, ".")
		if !inMachine || key.Example == "" || used[top] {
			continue
		}
		used[top] = true
		fmt.Fprintf(&text, ", %s: %s", top, m.value(below, key.Example))
	}
	return text.String()
}

// value writes an example of a key at a path below another: once, or in many maps whose
// names are chosen.
func (m *maker) value(below, example string) string {
	rest, named := strings.CutPrefix(below, "NAME")
	if !named {
		return inMaps(below, example)
	}
	value := inMaps(strings.TrimPrefix(rest, "."), example)
	var entries []string
	for i := range m.pick(1000) {
		entries = append(entries, fmt.Sprintf("n%d: %s", i, value))
		if m.room -= len(value); m.room < 0 {
			break
		}
	}
	return "{" + strings.Join(entries, ", ") + "}"
}

// inMaps writes a value within the maps that a path leads through.
func inMaps(path, value string) string {
	if path == "" {
		return value
	}
	words := strings.Split(path, ".")
	for _, word := range slices.Backward(words) {
		value = "{" + strings.ReplaceAll(word, "NAME", "n") + ": " + value + "}"
	}
	return value
}
