package stavren_test

import (
	"context"
	"fmt"
	"log"
	"strings"
	"testing/fstest"

	"stavren.example/stavren"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/render"
)

// files stands in for a folder on disk, such as os.DirFS.
var files = fstest.MapFS{
	"tides.stavren.yaml": {Data: []byte(`stavren: 1
fleet: tide-office
images:
  bookworm: {os: debian-12, file: images/debian-12.qcow2}
machines:
  almanac:
    image: bookworm
    resources: {cpus: 2, memory: 2GiB}
    ports: {site: {host: 8080, machine: 80}}
    first_boot: {packages: [nginx]}
`)},
	"faulty.stavren.yaml": {Data: []byte(`stavren: 1
fleet: tide-office
images:
  bookworm: {os: debian-12}
machines:
  almanac: {image: bookworm, resources: {memory: 64MiB}}
accept: {nobody-can-log-in: It looks after itself, no-way-in: It looks after itself}
`)},
	"malformed.stavren.yaml": {Data: []byte("stavren: 1\nfleet: tide-office\nmachins: {}\n")},
}

func ExampleLoad() {
	fleet, err := stavren.Load(context.Background(), files, "tides.stavren.yaml", stavren.LoadOptions{})
	if err != nil {
		log.Fatal(err)
	}
	for _, machine := range fleet.Machines {
		fmt.Println(machine.Name, machine.Resources.Memory, machine.HostName)
	}
	// Output: almanac 2GiB almanac
}

func ExampleFindings() {
	_, err := stavren.Load(context.Background(), files, "malformed.stavren.yaml", stavren.LoadOptions{})
	for _, finding := range stavren.Findings(err) {
		fmt.Println(finding)
		fmt.Println(finding.Remedy)
	}
	// Output:
	// malformed.stavren.yaml:3:1: error: unknown-key: a definition has no key "machins"
	// did you mean "machines"?
}

func ExampleCheck() {
	fleet, err := stavren.Load(context.Background(), files, "faulty.stavren.yaml", stavren.LoadOptions{})
	if err != nil {
		log.Fatal(err)
	}
	findings, err := stavren.Check(context.Background(), stavren.CheckOptions{}, fleet)
	if err != nil {
		log.Fatal(err)
	}
	for _, finding := range findings {
		fmt.Println(finding)
	}
	// Output: faulty.stavren.yaml:6:50: error: memory-below-need: machine almanac has 64MiB of memory, but Debian 12 (bookworm) needs 256MiB
}

func ExampleRender() {
	fleet, err := stavren.Load(context.Background(), files, "tides.stavren.yaml", stavren.LoadOptions{})
	if err != nil {
		log.Fatal(err)
	}
	rendered, err := stavren.Render(context.Background(), fleet, "cloud-init", stavren.RenderOptions{})
	if err != nil {
		log.Fatal(err)
	}
	for _, file := range rendered {
		first, _, _ := strings.Cut(string(file.Data), "\n")
		fmt.Println(file.Name, "starts with", first)
	}
	// Output:
	// almanac/user-data starts with #cloud-config
	// almanac/meta-data starts with instance-id: almanac-f87654f369d2
	// almanac/network-config starts with version: 2
}

// A program can add its own target, with a fate for each field.
func Example_ownTarget() {
	inventory := render.Target{
		Name: "inventory",
		Fates: func() []render.Fate {
			return render.Merge(render.Carry("machine.host_name"),
				render.Adapt("rounded up to whole GiB", "resources.memory"))
		},
		Machine: func(_ *render.Job, m *fleet.Machine) ([]render.File, error) {
			line := fmt.Sprintf("%s %d GiB\n", m.HostName, (m.Resources.Memory+fleet.GiB-1)/fleet.GiB)
			return []render.File{{Name: m.Name + ".txt", Data: []byte(line), Mode: 0o644}}, nil
		},
	}
	office, err := stavren.Load(context.Background(), files, "tides.stavren.yaml", stavren.LoadOptions{})
	if err != nil {
		log.Fatal(err)
	}
	rendered, err := render.All(context.Background(), inventory, office, render.Options{})
	if err != nil {
		log.Fatal(err)
	}
	for _, file := range rendered {
		fmt.Printf("%s: %s", file.Name, file.Data)
	}
	for _, note := range render.Notes(inventory, office, render.Options{}) {
		fmt.Printf("%s is %s: %s (%s)\n", note.Field, note.Outcome, note.How, strings.Join(note.Where, ", "))
	}
	// Output:
	// almanac.txt: almanac 2 GiB
	// resources.memory is adapted: rounded up to whole GiB (almanac)
}

// A fleet can be built in Go instead of being read from a file.
func Example_withoutAFile() {
	office := &fleet.Fleet{
		Name:   "tide-office",
		Images: []*fleet.Image{{Name: "bookworm", OS: "debian-12", File: "images/debian-12.qcow2"}},
		Machines: []*fleet.Machine{{
			Name: "almanac", Image: "bookworm",
			Resources: fleet.Resources{CPUs: 2, Memory: 2 * fleet.GiB},
			Ports:     []*fleet.Port{{Name: "site", Host: 8080, Machine: 80}},
			FirstBoot: &fleet.FirstBoot{Packages: []string{"nginx"}},
		}},
	}
	office.Complete()
	read, err := stavren.Load(context.Background(), files, "tides.stavren.yaml", stavren.LoadOptions{})
	if err != nil {
		log.Fatal(err)
	}
	for _, target := range []string{"cloud-init", "qemu"} {
		built, err := stavren.Render(context.Background(), office, target, stavren.RenderOptions{})
		if err != nil {
			log.Fatal(err)
		}
		fromFile, err := stavren.Render(context.Background(), read, target, stavren.RenderOptions{})
		if err != nil {
			log.Fatal(err)
		}
		same := len(built) == len(fromFile)
		for i := range built {
			same = same && string(built[i].Data) == string(fromFile[i].Data)
		}
		fmt.Println(target, "renders to the same bytes:", same)
	}
	// Output:
	// cloud-init renders to the same bytes: true
	// qemu renders to the same bytes: true
}

// Which size of a cloud does a machine get, and what does it cost?
func ExampleFit() {
	const name = "tides.stavren.yaml"
	files := fstest.MapFS{name: {Data: []byte(`stavren: 1
fleet: tides
images: {bookworm: {os: debian-12}}
machines: {almanac: {image: bookworm, resources: {cpus: 2, memory: 2GiB}}}
`)}}
	tides, err := stavren.Load(context.Background(), files, name, stavren.LoadOptions{})
	if err != nil {
		log.Fatal(err)
	}
	prices, err := stavren.ReadPrices([]byte(`# Made up for this example
platform,item,price,currency
gce,e2-small,0.0250,XTS
gce,e2-medium,0.0300,XTS
gce,disk,0.0730,XTS
`))
	if err != nil {
		log.Fatal(err)
	}
	offers, err := stavren.Fit(tides, tides.Machine("almanac"), "gce", prices)
	if err != nil {
		log.Fatal(err)
	}
	for _, offer := range offers[:2] {
		fmt.Printf("%s at %v %s per hour, more than needed: %q\n", offer.Size.Name, offer.Hourly, prices.Currency,
			offer.Waste(tides.Machine("almanac")))
	}
	// Output:
	// e2-small at 0.0260 XTS per hour, more than needed: ""
	// e2-medium at 0.0310 XTS per hour, more than needed: "+2GiB"
}
