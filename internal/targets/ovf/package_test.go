package ovf_test

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/xml"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/ovf"
	"stavren.example/stavren/render"
)

// envelope is what a strict importer reads of a descriptor.
type envelope struct {
	Files []reference `xml:"References>File"`
	Disks []struct {
		ID       string `xml:"diskId,attr"`
		File     string `xml:"fileRef,attr"`
		Capacity int64  `xml:"capacity,attr"`
		Units    string `xml:"capacityAllocationUnits,attr"`
	} `xml:"DiskSection>Disk"`
	Networks []struct {
		Name string `xml:"name,attr"`
	} `xml:"NetworkSection>Network"`
	Machine struct {
		ID         string `xml:"id,attr"`
		Annotation string `xml:"AnnotationSection>Annotation"`
		Hardware   struct {
			Items []item `xml:"Item"`
		} `xml:"VirtualHardwareSection"`
	} `xml:"VirtualSystem"`
}

type reference struct {
	ID   string `xml:"id,attr"`
	Href string `xml:"href,attr"`
	Size string `xml:"size,attr"`
}

type item struct {
	Fields []struct {
		XMLName xml.Name
		Text    string `xml:",chardata"`
	} `xml:",any"`
}

func (i item) value(name string) string {
	for _, field := range i.Fields {
		if field.XMLName.Local == name {
			return field.Text
		}
	}
	return ""
}

// reader checks a package as a strict importer would, by DSP0243 1.1.
type reader struct {
	t        *testing.T
	folder   string
	name     string
	envelope envelope
}

func (r *reader) fault(format string, args ...any) {
	r.t.Helper()
	r.t.Errorf("%s: %s", r.name, fmt.Sprintf(format, args...))
}

func (r *reader) file(name string) []byte {
	r.t.Helper()
	data, err := os.ReadFile(filepath.Join(r.folder, name))
	if err != nil {
		r.fault("%v", err)
	}
	return data
}

func read(t *testing.T, folder, name string) *reader {
	t.Helper()
	r := &reader{t: t, folder: folder, name: name}
	if err := xml.Unmarshal(r.file(name+".ovf"), &r.envelope); err != nil {
		t.Fatal(err)
	}
	r.references()
	r.disks()
	r.items()
	return r
}

// references checks that each file is there once, with the size that is said of it.
func (r *reader) references() {
	seen := map[string]bool{}
	for _, file := range r.envelope.Files {
		if seen[file.ID] || seen["href "+file.Href] {
			r.fault("file %s (%s) is referred to twice", file.ID, file.Href)
		}
		seen[file.ID], seen["href "+file.Href] = true, true
		if size := len(r.file(file.Href)); file.Size != "" && file.Size != strconv.Itoa(size) {
			r.fault("%s has %d bytes, not %s", file.Href, size, file.Size)
		}
	}
}

// disks checks each disk against the header of its disc image: a magic number, and the
// capacity in sectors from byte 12 on.
func (r *reader) disks() {
	for _, disk := range r.envelope.Disks {
		if disk.Units != "byte * 2^20" {
			r.fault("disk %s is counted in %q", disk.ID, disk.Units)
		}
		if disk.File == "" {
			continue
		}
		at := slices.IndexFunc(r.envelope.Files, func(f reference) bool { return f.ID == disk.File })
		if at < 0 {
			r.fault("disk %s refers to %s, which is not there", disk.ID, disk.File)
			continue
		}
		data := r.file(r.envelope.Files[at].Href)
		if len(data) < 20 || string(data[:4]) != "KDMV" {
			r.fault("%s is no disc image", r.envelope.Files[at].Href)
		} else if sectors := binary.LittleEndian.Uint64(data[12:]); sectors*512 != uint64(disk.Capacity)<<20 {
			r.fault("%s has %d sectors, the descriptor says %d MiB", r.envelope.Files[at].Href, sectors, disk.Capacity)
		}
	}
}

// items checks that each item has its elements in order, a number of its own, a parent
// that suits it, and a place there that is free.
func (r *reader) items() {
	numbers, places := map[string]item{}, map[string]bool{}
	for _, it := range r.envelope.Machine.Hardware.Items {
		var names []string
		for _, field := range it.Fields {
			names = append(names, field.XMLName.Local)
		}
		if !slices.IsSorted(names) {
			r.fault("elements in the order %v", names)
		}
		number, parent := it.value("InstanceID"), it.value("Parent")
		if _, taken := numbers[number]; taken || number == "" || it.value("ElementName") == "" {
			r.fault("item %q has no number or name of its own", number)
		}
		numbers[number] = it
		if resource := it.value("HostResource"); resource != "" && !r.has(resource) {
			r.fault("item %s refers to %s", number, resource)
		}
		if network := it.value("Connection"); network != "" && !r.hasNetwork(network) {
			r.fault("item %s is on network %s", number, network)
		}
		if parent == "" {
			continue
		}
		place := parent + ":" + it.value("AddressOnParent")
		if places[place] {
			r.fault("two items are at %s", place)
		}
		places[place] = true
		unit, _ := strconv.Atoi(it.value("AddressOnParent"))
		on := numbers[parent].value("ResourceType")
		fits := map[string]bool{"17 on 6": unit != 7 && unit < 16, "17 on 20": unit < 30, "15 on 5": unit < 2}
		if kind := it.value("ResourceType") + " on " + on; !fits[kind] {
			r.fault("item %s is a %s at unit %d", number, kind, unit)
		}
	}
}

func (r *reader) has(resource string) bool {
	for _, file := range r.envelope.Files {
		if resource == "ovf:/file/"+file.ID {
			return true
		}
	}
	for _, disk := range r.envelope.Disks {
		if resource == "ovf:/disk/"+disk.ID {
			return true
		}
	}
	return false
}

func (r *reader) hasNetwork(name string) bool {
	for _, network := range r.envelope.Networks {
		if network.Name == name {
			return true
		}
	}
	return false
}

// manifest checks that the manifest has the right checksum of the descriptor and of every
// file that it refers to, and nothing else.
func (r *reader) manifest() {
	left := map[string]bool{r.name + ".ovf": true}
	for _, file := range r.envelope.Files {
		left[file.Href] = true
	}
	for line := range strings.Lines(string(r.file(r.name + ".mf"))) {
		name, sum, _ := strings.Cut(strings.TrimPrefix(strings.TrimSpace(line), "SHA256("), ")= ")
		if !left[name] {
			r.fault("the manifest lists %s, which nothing refers to or which is there twice", name)
			continue
		}
		delete(left, name)
		if fmt.Sprintf("%x", sha256.Sum256(r.file(name))) != sum {
			r.fault("the manifest has another checksum of %s", name)
		}
	}
	if len(left) > 0 {
		r.fault("the manifest lacks %v", left)
	}
}

// unpack extracts an archive and checks its order: the descriptor, and then the files in
// the order of the references (5.3).
func unpack(t *testing.T, path, folder, name string) *reader {
	t.Helper()
	archive, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer archive.Close()
	var names []string
	for files := tar.NewReader(archive); ; {
		header, err := files.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		if header.Format&tar.FormatUSTAR == 0 {
			t.Errorf("%s is in the format %v", header.Name, header.Format)
		}
		data, err := io.ReadAll(files)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(folder, header.Name), data, 0o600); err != nil {
			t.Fatal(err)
		}
		names = append(names, header.Name)
	}
	r := read(t, folder, name)
	want := []string{name + ".ovf"}
	for _, file := range r.envelope.Files {
		want = append(want, file.Href)
	}
	if !slices.Equal(names, want) {
		r.fault("the archive has %v, the references %v", names, want)
	}
	return r
}

// TestPackage renders machines, runs the printed steps, and reads the packages.
func TestPackage(t *testing.T) {
	if _, err := exec.LookPath("qemu-img"); err != nil {
		t.Skip("qemu-img is not installed here")
	}
	f := everything(t)
	f.Images[0].File = "images/it's $(base).qcow2"
	for _, m := range []*fleet.Machine{f.Machine("almanac"), f.Machine("store")} {
		for _, archive := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s as archive %v", m.Name, archive), func(t *testing.T) {
				folder := t.TempDir()
				makeImages(t, folder, f.Images[0].File, "images/tables.qcow2")
				job := &render.Job{Fleet: f, Options: render.Options{Archive: archive, Machines: []string{m.Name},
					Secrets: func(secret *fleet.Secret) (string, error) { return "high " + secret.Name, nil }}}
				prepare(t, folder, job, m)
				if archive {
					unpack(t, filepath.Join(folder, m.Name, m.Name+".ova"), t.TempDir(), m.Name)
					return
				}
				r := read(t, filepath.Join(folder, m.Name), m.Name)
				r.manifest()
				if r.envelope.Machine.ID != m.Name || r.envelope.Machine.Annotation != m.About ||
					len(r.envelope.Disks) != len(m.Disks) {
					t.Errorf("read back as %+v", r.envelope.Machine)
				}
				runSteps(t, folder, job, m) // a second time
				r.manifest()
			})
		}
	}
}

func makeImages(t *testing.T, folder string, names ...string) {
	t.Helper()
	if err := os.Mkdir(filepath.Join(folder, "images"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, name := range names {
		if out, err := exec.Command("qemu-img", "create", "-q", "-f", "qcow2", filepath.Join(folder, name),
			"1M").CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	if err := os.WriteFile(filepath.Join(folder, "images/install.iso"), []byte("disc"), 0o644); err != nil {
		t.Fatal(err)
	}
}

// prepare renders a machine into a folder and runs its steps there.
func prepare(t *testing.T, folder string, job *render.Job, m *fleet.Machine) {
	t.Helper()
	files, err := render.All(context.Background(), ovf.Target, job.Fleet, job.Options)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(filepath.Join(folder, m.Name), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, file := range files {
		if err := os.WriteFile(filepath.Join(folder, file.Name), file.Data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	runSteps(t, folder, job, m)
}

func runSteps(t *testing.T, folder string, job *render.Job, m *fleet.Machine) {
	t.Helper()
	for _, step := range ovf.Target.Steps(job, []*fleet.Machine{m}) {
		c := exec.Command("sh", "-eu", "-c", step.Command)
		c.Dir = folder
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", step.Command, err, out)
		}
	}
}

// TestDemoPackages reads every descriptor of the demo, before its discs are there.
func TestDemoPackages(t *testing.T) {
	for name, file := range golden.Render(t, ovf.Target, golden.Demo(t)) {
		machine, isDescriptor := strings.CutSuffix(filepath.Base(name), ".ovf")
		if !isDescriptor {
			continue
		}
		r := &reader{t: t, name: machine}
		if err := xml.Unmarshal(file.Data, &r.envelope); err != nil {
			t.Fatal(err)
		}
		r.items()
		if len(r.envelope.Files) == 0 || len(r.envelope.Machine.Hardware.Items) < 5 {
			r.fault("read back as %+v", r.envelope)
		}
	}
}
