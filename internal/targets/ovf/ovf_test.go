package ovf_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/ovf"
)

func TestDemo(t *testing.T) {
	golden.Compare(t, golden.Render(t, ovf.Target, golden.Demo(t), golden.Machines...))
}

func everything(t *testing.T) *fleet.Fleet {
	f := golden.Demo(t)
	m := f.Machine("store")
	m.About = "it's \"quoted\" <b> & ]]> \t🌊"
	for i := range 9 {
		m.Disks = append(m.Disks, &fleet.Disk{Name: fmt.Sprintf("d%d", i), Size: fleet.GiB})
	}
	m.Disks[2].Start = "images/tables.qcow2"
	m.Disks[3].Bus, m.Disks[4].Bus = fleet.SATA, fleet.SATA
	m.Media = []*fleet.Medium{{Name: "install", File: "images/install.iso"}, {Name: "more", File: "images/install.iso"}}
	f.Complete()
	return f
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

// TestSystemIDs looks at systems whose ids differ, among them those that a definition adds.
func TestSystemIDs(t *testing.T) {
	for _, c := range []struct{ system, want string }{
		{"debian-12", `ovf:id="96" vmw:osType="debian12_64Guest"`},
		{"ubuntu-24.04", `ovf:id="94" vmw:osType="ubuntu64Guest"`},
		{"windows-server-2012-r2", `ovf:id="115" vmw:osType="windows8Server64Guest"`},
		{"windows-11", `ovf:id="120" vmw:osType="windows11_64Guest"`},
		{"freebsd-15", `ovf:id="78" vmw:osType="freebsd14_64Guest"`},
		{"alpine-3.22", `ovf:id="101" vmw:osType="other5xLinux64Guest"`},
		{"skerry-linux", `ovf:id="85" vmw:osType="sles15_64Guest"`},
	} {
		t.Run(c.system, func(t *testing.T) {
			f := &fleet.Fleet{Name: "tide-office", Images: []*fleet.Image{{Name: "i", OS: c.system, File: "i.qcow2"}},
				Systems:  []*fleet.System{{Name: "skerry-linux", Family: "suse"}},
				Machines: []*fleet.Machine{{Name: "almanac", Image: "i", FirstBoot: &fleet.FirstBoot{}}}}
			f.Complete()
			text := string(golden.Render(t, ovf.Target, f)["almanac/almanac.ovf"].Data)
			if !strings.Contains(text, c.want) {
				t.Errorf("no %s in\n%s", c.want, text)
			}
		})
	}
}

// TestControllers looks at what disks and drives are on for each class of systems.
func TestControllers(t *testing.T) {
	for _, c := range []struct{ system, want string }{
		{"debian-12", "VirtualSCSI vmware.sata.ahci PIIX4 VmxNet3"},
		{"freebsd-14", "VirtualSCSI vmware.sata.ahci PIIX4 VmxNet3"},
		{"windows-server-2022", "lsilogicsas vmware.sata.ahci PIIX4 E1000"},
	} {
		t.Run(c.system, func(t *testing.T) {
			f := &fleet.Fleet{Name: "tide-office", Images: []*fleet.Image{{Name: "i", OS: c.system, File: "i.qcow2"}},
				Machines: []*fleet.Machine{{Name: "almanac", Image: "i", FirstBoot: &fleet.FirstBoot{},
					Disks: []*fleet.Disk{{Name: "root", Size: 40 * fleet.GiB}, {Name: "pages", Size: fleet.GiB, Bus: fleet.SATA}}}}}
			f.Complete()
			var got []string
			for _, part := range strings.Split(string(golden.Render(t, ovf.Target, f)["almanac/almanac.ovf"].Data),
				"<rasd:ResourceSubType>")[1:] {
				subtype, _, _ := strings.Cut(part, "<")
				got = append(got, subtype)
			}
			if text := strings.Join(got, " "); text != c.want {
				t.Errorf("got %s, want %s", text, c.want)
			}
		})
	}
}

// TestFirstBoot looks at what depends on the importer: new hardware addresses, and disks
// without serials.
func TestFirstBoot(t *testing.T) {
	for _, c := range []struct{ system, nics, want string }{
		{"debian-12", "one", "for b in /sys/bus/scsi/devices/*:0:1:0/block/sd*"},
		{"freebsd-14", "one", `target 1 lun 0 .*[(,]\\(da[0-9]*\\)[,)].*/\\1/p\"`},
		{"debian-12", "two", "macaddress:"},
		{"debian-12", "one", `eth0: match: name: "e*"`},
	} {
		t.Run(c.system+" with "+c.nics, func(t *testing.T) {
			m := &fleet.Machine{Name: "almanac", Image: "i", FirstBoot: &fleet.FirstBoot{},
				Disks: []*fleet.Disk{{Name: "root", Size: 40 * fleet.GiB},
					{Name: "pages", Size: fleet.GiB, FileSystem: "ext4", Mount: "/srv"}},
				NICs: []*fleet.NIC{{Name: "quay", Network: "quay"}}}
			if c.nics == "two" {
				m.NICs = append(m.NICs, &fleet.NIC{Name: "reef", Network: "quay"})
			}
			f := &fleet.Fleet{Name: "tide-office", Images: []*fleet.Image{{Name: "i", OS: c.system, File: "i.qcow2"}},
				Networks: []*fleet.Network{{Name: "quay", Mode: fleet.NAT}}, Machines: []*fleet.Machine{m}}
			f.Complete()
			seed := string(golden.Render(t, ovf.Target, f)["almanac/seed.iso"].Data)
			if !strings.Contains(strings.Join(strings.Fields(seed), " "), strings.Join(strings.Fields(c.want), " ")) {
				t.Errorf("the seed lacks %s", c.want)
			}
			found := false
			for _, need := range ovf.Target.Needs(f, m) {
				found = found || need.Rule == "addresses-must-be-kept"
			}
			if found != (c.nics == "two") {
				t.Errorf("addresses-must-be-kept is reported: %v", found)
			}
		})
	}
}

// TestPlaces looks at how each system finds disks on SATA beside ones on SCSI: a command for
// one must not print the other, which can be the root disk.
func TestPlaces(t *testing.T) {
	for _, c := range []struct {
		system    string
		root, bus fleet.DiskBus
		want      string
	}{
		{"debian-12", fleet.VirtIO, fleet.SATA, "/sys/bus/pci/drivers/ahci/*/ata*"},
		{"debian-12", fleet.SATA, fleet.VirtIO, "*:0:0:0/block/sd*; do case $(readlink -f $b) in */ata[0-9]*) ;;"},
		{"freebsd-14", fleet.VirtIO, fleet.SATA, `[(,]\\(ada[0-9]*\\)[,)].*/\\1/p\" | sed -n 1p`},
		{"freebsd-14", fleet.SATA, fleet.SATA, `| sed -n 2p`},
		{"freebsd-14", fleet.SATA, fleet.VirtIO, `target 0 lun 0 .*[(,]\\(da[0-9]*\\)[,)]`},
	} {
		t.Run(fmt.Sprintf("%s with root on %s and data on %s", c.system, c.root, c.bus), func(t *testing.T) {
			m := &fleet.Machine{Name: "almanac", Image: "i", FirstBoot: &fleet.FirstBoot{}, Disks: []*fleet.Disk{
				{Name: "root", Size: 40 * fleet.GiB, Bus: c.root},
				{Name: "pages", Size: fleet.GiB, Bus: c.bus, FileSystem: "ext4", Mount: "/srv"}}}
			f := &fleet.Fleet{Name: "tide-office", Images: []*fleet.Image{{Name: "i", OS: c.system, File: "i.qcow2"}},
				Machines: []*fleet.Machine{m}}
			f.Complete()
			seed := string(golden.Render(t, ovf.Target, f)["almanac/seed.iso"].Data)
			if !strings.Contains(seed, c.want) {
				t.Errorf("the seed lacks %s", c.want)
			}
		})
	}
}
