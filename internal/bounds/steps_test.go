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

// madeUp returns a definition of at most about a megabyte.
func madeUp(random *rand.Rand) string {
	all := keys()
	var text strings.Builder
	text.WriteString("stavren: 1\nfleet: x\nimages: {i: {os: debian-12, file: i.qcow2}")
	room := 1_000_000
	pick := func(most int) int { return 1 + int(float64(most)*random.Float64()*random.Float64()*random.Float64()) }
	// part writes the keys of a machine that start with a prefix, some of them many times.
	part := func() string {
		var keys strings.Builder
		used := map[string]bool{}
		for range pick(6) {
			key := all[random.IntN(len(all))]
			path, inMachine := strings.CutPrefix(key.Path, "machines.NAME.")
			if !inMachine || key.Example == "" {
				continue
			}
			top, below, _ := strings.Cut(path, ".")
			if used[top] {
				continue
			}
			used[top] = true
			entries, size := pick(1000), 0
			var values []string
			for i := 0; i < entries && size < room/2; i++ {
				value := key.Example
				names := strings.Split(below, ".")
				for at := len(names) - 1; at >= 0 && below != ""; at-- {
					name := names[at]
					if name == "NAME" {
						name = fmt.Sprint("n", i)
						if at == 0 {
							value = name + ": " + value
							continue
						}
					}
					value = "{" + name + ": " + value + "}"
				}
				values = append(values, value)
				size += len(value)
				if !strings.HasPrefix(below, "NAME") {
					break
				}
			}
			room -= size
			joined := strings.Join(values, ", ")
			if strings.HasPrefix(below, "NAME") {
				joined = "{" + joined + "}"
			}
			fmt.Fprintf(&keys, ", %s: %s", top, joined)
		}
		return keys.String()
	}
	images := pick(3000)
	for i := range images {
		fmt.Fprintf(&text, ", i%d: {os: debian-12}", i)
	}
	text.WriteString("}\nnetworks: {n: {}")
	for i := range pick(3000) {
		fmt.Fprintf(&text, ", n%d: {subnet: 10.%d.%d.0/%d}", i, i/256%256, i%256, 16+random.IntN(14))
	}
	text.WriteString("}\nkits: {k0: {image: i}")
	kits := pick(2000)
	for i := range kits {
		fmt.Fprintf(&text, ", k%d: {kits: [k%d]%s}", i+1, random.IntN(i+2), map[bool]string{true: part()}[i < 3])
	}
	text.WriteString("}\nmachines:\n")
	for i := range pick(3000) {
		fmt.Fprintf(&text, "  m%d: {image: i%d, kits: [k%d]", i, random.IntN(images+2), random.IntN(kits+2))
		if random.IntN(4) == 0 {
			fmt.Fprintf(&text, ", copies: %d", pick(1000))
		}
		if i < 3 || random.IntN(50) == 0 {
			text.WriteString(part())
		}
		text.WriteString("}\n")
		if text.Len() > 1_000_000 {
			break
		}
	}
	return text.String()
}
