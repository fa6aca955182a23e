package sizing_test

import (
	"errors"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/sizing"
	"stavren.example/stavren/internal/targets"
)

func office(cpus int, memory fleet.Bytes, arch string) (*fleet.Fleet, *fleet.Machine) {
	m := &fleet.Machine{Name: "almanac", Image: "i", Resources: fleet.Resources{CPUs: cpus, Memory: memory}}
	f := &fleet.Fleet{Name: "tide-office", Machines: []*fleet.Machine{m},
		Images: []*fleet.Image{{Name: "i", OS: "debian-12", Arch: arch}}}
	f.Complete()
	return f, m
}

// market returns what a built-in cloud sells.
func market(t *testing.T, name string) *sizing.Market {
	t.Helper()
	cloud, ok := targets.Cloud(name)
	if !ok {
		t.Fatalf("there is no cloud %s", name)
	}
	return cloud.Market()
}

func names(offers []sizing.Offer) string {
	var list []string
	for _, o := range offers {
		list = append(list, o.Size.Name)
	}
	return strings.Join(list, " ")
}

func TestClosest(t *testing.T) {
	for _, c := range []struct {
		platform, arch string
		cpus           int
		memory         fleet.Bytes
		want           string
	}{
		{"cloudformation", "amd64", 2, 2 * fleet.GiB, "t3.small"},
		{"cloudformation", "arm64", 1, 4 * fleet.GiB, "m7g.medium"},
		{"arm", "amd64", 4, 8 * fleet.GiB, "Standard_F4s_v2"},
		{"gce", "amd64", 1, 512 * fleet.MiB, "e2-micro"},
		{"droplet", "amd64", 2, 3 * fleet.GiB, "s-2vcpu-4gb"},
		{"oci", "amd64", 3, 5 * fleet.GiB, "VM.Standard.E4.Flex"},
		{"oci", "arm64", 3, 5 * fleet.GiB, "VM.Standard.A1.Flex"},
	} {
		t.Run(c.platform, func(t *testing.T) {
			f, m := office(c.cpus, c.memory, c.arch)
			offers, err := sizing.Fit(f, m, market(t, c.platform), nil)
			if err != nil || offers[0].Size.Name != c.want {
				t.Errorf("%s, %d cpus, %v: %v, %v", c.platform, c.cpus, c.memory, names(offers), err)
			}
			for _, o := range offers {
				if o.CPUs < c.cpus || o.Memory < c.memory {
					t.Errorf("%s: %s gives %d cpus and %v", c.platform, o.Size.Name, o.CPUs, o.Memory)
				}
			}
		})
	}
}

// TestFlexible checks what a flexible size gives: whole processors of two threads, and
// memory in whole GiB.
func TestFlexible(t *testing.T) {
	f, m := office(3, 5000*fleet.MiB, "amd64")
	offers, err := sizing.Fit(f, m, market(t, "oci"), nil)
	if err != nil || offers[0].CPUs != 4 || offers[0].Memory != 5*fleet.GiB || offers[0].Waste(m) != "+1 cpu, +120MiB" {
		t.Errorf("%+v, %v", offers, err)
	}
}

func TestNothingFits(t *testing.T) {
	f, m := office(64, 100*fleet.GiB, "amd64")
	_, err := sizing.Fit(f, m, market(t, "droplet"), nil)
	var noFit *sizing.NoFitError
	if !errors.As(err, &noFit) || err.Error() != "no size of droplet satisfies machine almanac; the nearest is "+
		"g-8vcpu-32gb, which lacks cpus: 8 of 64" {
		t.Errorf("%v", err)
	}
	if _, err := sizing.Fit(f, m, market(t, "heat"), nil); err == nil ||
		err.Error() != "heat has no size for machine almanac" {
		t.Errorf("%v", err)
	}
}

func TestNamed(t *testing.T) {
	f, m := office(2, 4*fleet.GiB, "amd64")
	f.Platforms = []*fleet.Platform{{Name: "gce", Size: "e2-standard-4"}}
	if o, named, err := sizing.Choose(f, m, market(t, "gce"), nil); err != nil || !named ||
		o.Size.Name != "e2-standard-4" {
		t.Errorf("%+v, %v", o, err)
	}
	m.Platforms = []*fleet.Platform{{Name: "gce", Size: "e2-small"}}
	if _, _, err := sizing.Choose(f, m, market(t, "gce"), nil); err == nil ||
		!strings.Contains(err.Error(), "the nearest is e2-small, which lacks memory: 2GiB of 4GiB") {
		t.Errorf("%v", err)
	}
	m.Platforms[0].Size = "e2-smal"
	// The list has no new sizes.
	if o, _, err := sizing.Choose(f, m, market(t, "gce"), nil); err != nil || !o.Unlisted || o.Size.Name != "e2-smal" {
		t.Errorf("%+v, %v", o, err)
	}
}

const prices = `# made up
platform,item,price,currency
cloudformation,t3.small,0.10,XTS
cloudformation,t3.medium,0.05,XTS
cloudformation,disk,0.0730,XTS
cloudformation,public-address,0.01,XTS
oci,VM.Standard.E4.Flex cpu,0.02,XTS
oci,VM.Standard.E4.Flex GiB,0.001,XTS
oci,disk,0,XTS
`

// TestPrices compares with a sum made by hand: size, 10 GiB of disk and the address.
func TestPrices(t *testing.T) {
	sheet, err := sizing.ReadPrices([]byte(prices))
	if err != nil || sheet.About != "made up" || sheet.Currency != "XTS" {
		t.Fatalf("%+v, %v", sheet, err)
	}
	f, m := office(2, 2*fleet.GiB, "amd64")
	m.PublicAddress = true
	offers, err := sizing.Fit(f, m, market(t, "cloudformation"), sheet)
	if err != nil || offers[0].Size.Name != "t3.medium" || !offers[0].Known || offers[0].Hourly != 50000+1000+10000 {
		t.Errorf("%+v, %v", offers[0], err)
	}
	if last := offers[len(offers)-1]; last.Known {
		t.Errorf("%s is said to have a price", last.Size.Name)
	}
	m.PublicAddress = false
	offers, err = sizing.Fit(f, m, market(t, "oci"), sheet)
	if err != nil || offers[0].Hourly != 20000+2*1000 {
		t.Errorf("%+v, %v", offers[0], err)
	}
	for price, want := range map[sizing.Price]string{1234567: "1.23", 12345: "0.0123", 0: "0.0000"} {
		if price.String() != want {
			t.Errorf("%d is written %s", price, price)
		}
	}
}

func TestSheetFaults(t *testing.T) {
	const head = "platform,item,price,currency\n"
	for text, want := range map[string]string{
		"":                                    "the first line must be platform,item,price,currency",
		"size,price\n":                        "the first line must be platform,item,price,currency",
		head:                                  "has no prices",
		head + "gce,e2-small,much,XTS\n":      `line 2: a price is a number such as 0.0104, not "much"`,
		head + "gce,e2-small,-1,XTS\n":        "line 2: a price is a number",
		head + "gce,e2-small,0.1234567,XTS\n": "more than six decimals",
		head + "gce,a,1,XTS\ngce,b,1,EUR\n":   `line 3: the currency is "EUR", but "XTS" above`,
		head + "gce,a,1,XTS\ngce,a,2,XTS\n":   "line 3: a of gce already has a price",
		head + "gce,a,1\n":                    "wrong number of fields",
	} {
		t.Run(text, func(t *testing.T) {
			if _, err := sizing.ReadPrices([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%q: %v", text, err)
			}
		})
	}
}

// TestSizeFiles reads the sizes of every platform and looks for impossible ones.
func TestSizeFiles(t *testing.T) {
	for _, platform := range targets.Clouds() {
		sizes, err := sizing.ReadSizes([]byte(platform.Cloud.Sizes))
		if platform.Cloud.Sizes != "" && err != nil {
			t.Errorf("%s/sizes.csv: %v", platform.Name, err)
		}
		seen := map[string]bool{}
		for _, size := range sizes {
			if seen[size.Name] || size.Memory < 256*fleet.MiB {
				t.Errorf("%s: %+v", platform.Name, size)
			}
			seen[size.Name] = true
		}
	}
	for text, want := range map[string]string{
		"name\n": "line 1: the columns have to be name,cpus,memory,arch,disk",
		"name,cpus,memory,arch,disk\na,x,1GiB,amd64,\n":        `line 2: size "a": cpus is a number`,
		"name,cpus,memory,arch,disk\na,1,1,amd64,\n":           `line 2: size "a": memory "1"`,
		"name,cpus,memory,arch,disk\na,1,1GiB,vax,\n":          `arch is amd64 or arm64, not "vax"`,
		"name,cpus,memory,arch,disk\na,1-4,1GiB,amd64,\n":      "cpus and memory both have ranges, or neither",
		"name,cpus,memory,arch,disk\na,4-1,1GiB-2GiB,amd64,\n": "cpus is a range such as 2-64",
		"name,cpus,memory,arch,disk\na,1,1GiB,amd64,10\n":      `disk "10"`,
		"name,cpus,memory,arch,disk\n,1,1GiB,amd64,\n":         "it has no name",
	} {
		t.Run(text, func(t *testing.T) {
			if _, err := sizing.ReadSizes([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%q: %v", text, err)
			}
		})
	}
}

// TestLimitsOfSizes looks at machines with more interfaces or disks than small sizes take.
func TestLimitsOfSizes(t *testing.T) {
	for _, c := range []struct {
		what           string
		nics, disks    int
		platform, want string
	}{
		{"few of each", 1, 1, "cloudformation", "t3.medium"},
		{"four interfaces", 4, 1, "cloudformation", "c7i.xlarge"},
		{"nine data disks", 1, 10, "arm", "Standard_F8s_v2"},
	} {
		t.Run(c.what, func(t *testing.T) {
			f, m := office(2, 4*fleet.GiB, "amd64")
			for range c.nics - len(m.NICs) {
				m.NICs = append(m.NICs, &fleet.NIC{Name: "n"})
			}
			for range c.disks - len(m.Disks) {
				m.Disks = append(m.Disks, &fleet.Disk{Name: "d", Size: fleet.GiB})
			}
			offers, err := sizing.Fit(f, m, market(t, c.platform), nil)
			if err != nil || len(offers) == 0 || offers[0].Size.Name != c.want {
				t.Errorf("%+v, %v", offers, err)
			}
		})
	}
}

// TestUnknownPrices looks at lines of a sheet that price nothing.
func TestUnknownPrices(t *testing.T) {
	f, _ := office(2, 4*fleet.GiB, "amd64")
	sheet, err := sizing.ReadPrices([]byte("platform,item,price,currency\ngce,e2-small,1,XTS\ngce,e2-smal,1,XTS\n" +
		"aws,t3.small,1,XTS\ngce,disk,1,XTS\noci,VM.Standard.E4.Flex,1,XTS\noci,VM.Standard.E4.Flex cpu,1,XTS\n"))
	if err != nil {
		t.Fatal(err)
	}
	got := strings.Join(sheet.Unknown(f, []*sizing.Market{market(t, "gce"), market(t, "oci")}), "\n")
	for _, want := range []string{`line 3: gce has no size or item "e2-smal"; did you mean "e2-small"?`,
		`line 4: "aws" is no platform with sizes`, `line 6: oci has no size or item "VM.Standard.E4.Flex"; did you mean`} {
		if !strings.Contains(got, want) {
			t.Errorf("no %q in\n%s", want, got)
		}
	}
	if strings.Count(got, "line ") != 3 {
		t.Errorf("got\n%s", got)
	}
}
