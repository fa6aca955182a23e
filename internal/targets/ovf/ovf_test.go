package ovf_test

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/xml"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/ovf"
	"stavren.example/stavren/render"
)

func TestDemo(t *testing.T) {
	golden.Compare(t, golden.Render(t, ovf.Target, golden.Demo(t), golden.Machines...))
}

// envelope is what the tests read of a descriptor.
type envelope struct {
	Files []struct {
		ID   string `xml:"id,attr"`
		Href string `xml:"href,attr"`
		Size int    `xml:"size,attr"`
	} `xml:"References>File"`
	Disks []struct {
		ID       string `xml:"diskId,attr"`
		File     string `xml:"fileRef,attr"`
		Capacity int    `xml:"capacity,attr"`
	} `xml:"DiskSection>Disk"`
	Networks []struct {
		Name string `xml:"name,attr"`
	} `xml:"NetworkSection>Network"`
	Machine struct {
		Name       string
		Annotation string `xml:"AnnotationSection>Annotation"`
		Hardware   struct {
			Items []struct {
				InstanceID, Parent, HostResource, Connection, AddressOnParent, ResourceType string
			} `xml:"Item"`
		} `xml:"VirtualHardwareSection"`
	} `xml:"VirtualSystem"`
}

func everything(t *testing.T) *fleet.Fleet {
	f := golden.Demo(t)
	m := f.Machine("store")
	m.About = "it's \"quoted\" <b> & ]]> \t🌊"
	for i := range 9 {
		m.Disks = append(m.Disks, &fleet.Disk{Name: fmt.Sprintf("d%d", i), Size: fleet.GiB})
	}
	m.Media = []*fleet.Medium{{Name: "install", File: "images/install.iso"}}
	f.Complete()
	return f
}

// TestReferences walks every descriptor: each reference has a target, each number is
// used once, and each file beside it has its checksum.
func TestReferences(t *testing.T) {
	f := everything(t)
	files := golden.Render(t, ovf.Target, f)
	for _, m := range f.Machines {
		var e envelope
		if err := xml.Unmarshal(files[m.Name+"/"+m.Name+".ovf"].Data, &e); err != nil {
			t.Fatal(err)
		}
		known := map[string]bool{}
		for _, file := range e.Files {
			known["ovf:/file/"+file.ID], known[file.ID] = true, true
			if file.Href == "seed.iso" && file.Size != len(files[m.Name+"/seed.iso"].Data) {
				t.Errorf("%s: the seed has %d bytes, not %d", m.Name, len(files[m.Name+"/seed.iso"].Data), file.Size)
			}
		}
		for i, disk := range e.Disks {
			known["ovf:/disk/"+disk.ID] = true
			if disk.File != "" && !known[disk.File] || int64(disk.Capacity)<<20 != int64(m.Disks[i].Size) {
				t.Errorf("%s: disk %+v", m.Name, disk)
			}
		}
		for _, network := range e.Networks {
			known["network "+network.Name] = true
		}
		places := map[string]bool{}
		for _, item := range e.Machine.Hardware.Items {
			if known["item "+item.InstanceID] {
				t.Errorf("%s: item %s is there twice", m.Name, item.InstanceID)
			}
			known["item "+item.InstanceID] = true
			place := item.Parent + ":" + item.AddressOnParent
			if item.Parent != "" && (!known["item "+item.Parent] || places[place]) || item.HostResource != "" &&
				!known[item.HostResource] ||
				item.Connection != "" && !known["network "+item.Connection] {
				t.Errorf("%s: item %+v", m.Name, item)
			}
			places[place] = true
		}
		if e.Machine.Annotation != m.About || e.Machine.Name != m.Name || len(e.Disks) != len(m.Disks) {
			t.Errorf("%s: read back as %+v", m.Name, e.Machine)
		}
		for _, line := range strings.Split(strings.TrimSpace(string(files[m.Name+"/"+m.Name+".mf"].Data)), "\n") {
			name, sum, _ := strings.Cut(strings.TrimPrefix(line, "SHA256("), ")= ")
			if fmt.Sprintf("%x", sha256.Sum256(files[m.Name+"/"+name].Data)) != sum {
				t.Errorf("%s: manifest line %q", m.Name, line)
			}
		}
	}
}

func TestParserTakesDescriptor(t *testing.T) {
	xmllint, err := exec.LookPath("xmllint")
	if err != nil {
		t.Skip("xmllint is not installed here")
	}
	for name, file := range golden.Render(t, ovf.Target, everything(t)) {
		if !strings.HasSuffix(name, ".ovf") {
			continue
		}
		path := filepath.Join(t.TempDir(), "x.ovf")
		if err := os.WriteFile(path, file.Data, 0o644); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command(xmllint, "--noout", "--nonet", path).CombinedOutput(); err != nil || len(out) > 0 {
			t.Errorf("%s: %v\n%s", name, err, out)
		}
	}
}

func TestArchive(t *testing.T) {
	f := golden.Demo(t)
	options := render.Options{Machines: []string{"almanac"}, Archive: true}
	files, err := render.All(context.Background(), ovf.Target, f, options)
	if err != nil || len(files) != 1 || files[0].Name != "almanac/almanac.ova" {
		t.Fatalf("%v, %v", files, err)
	}
	var names []string
	for reader := tar.NewReader(bytes.NewReader(files[0].Data)); ; {
		header, err := reader.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		names = append(names, header.Name)
	}
	// The root disk is packed by the printed step, so there can't be a whole manifest.
	if got := strings.Join(names, " "); got != "almanac.ovf seed.iso" {
		t.Errorf("the archive holds %s", got)
	}
}

// TestSteps runs the printed command and checks the manifest that it completes.
func TestSteps(t *testing.T) {
	if _, err := exec.LookPath("qemu-img"); err != nil {
		t.Skip("qemu-img is not installed here")
	}
	f := golden.Demo(t)
	f.Images[0].File = "images/it's $(base).qcow2"
	folder := t.TempDir()
	for _, name := range []string{"almanac", "images"} {
		if err := os.Mkdir(filepath.Join(folder, name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if out, err := exec.Command("qemu-img", "create", "-q", "-f", "qcow2", filepath.Join(folder, f.Images[0].File),
		"1M").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for name, file := range golden.Render(t, ovf.Target, f, "almanac") {
		if err := os.WriteFile(filepath.Join(folder, name), file.Data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	step := ovf.Target.Steps(&render.Job{Fleet: f}, f.Machines[:1])[0]
	c := exec.Command("sh", "-eu", "-c", step.Command)
	c.Dir = folder
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%s: %v\n%s", step.Command, err, out)
	}
	disk, err := os.ReadFile(filepath.Join(folder, "almanac/root.vmdk"))
	if err != nil || !bytes.HasPrefix(disk, []byte("KDMV")) {
		t.Fatalf("root.vmdk starts with %.4q, %v", disk, err)
	}
	info, err := exec.Command("qemu-img", "info", filepath.Join(folder, "almanac/root.vmdk")).Output()
	if err != nil || !strings.Contains(string(info), "virtual size: 20 GiB") {
		t.Errorf("%v, the disc is not as large as the descriptor says:\n%s", err, info)
	}
	manifest, _ := os.ReadFile(filepath.Join(folder, "almanac/almanac.mf"))
	if want := fmt.Sprintf("SHA256(root.vmdk)= %x\n", sha256.Sum256(disk)); !bytes.HasSuffix(manifest, []byte(want)) {
		t.Errorf("manifest:\n%s", manifest)
	}
}

// TestStepsBringDiscs checks that the steps copy the discs that the descriptor names.
func TestStepsBringDiscs(t *testing.T) {
	f := everything(t)
	steps := ovf.Target.Steps(&render.Job{Fleet: f}, []*fleet.Machine{f.Machine("store")})
	if len(steps) != 2 || !strings.HasPrefix(steps[0].Command, "(cd store && cp ../images/install.iso install.iso && printf") {
		t.Errorf("steps: %+v", steps)
	}
}
