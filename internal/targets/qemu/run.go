package qemu

import (
	"bytes"
	_ "embed"
	"fmt"
	"strings"
	"sync"
	"text/template"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/quote"
	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/render"
)

// runTemplate is run.sh. Values are quoted before they are filled in. Everything else
// is fixed text, which the tests check with shellcheck.
//
//go:embed run.sh.template
var runText string

var runTemplate = sync.OnceValue(func() *template.Template {
	return hypervisor.Template("run.sh", runText)
})

// run holds the values of the template.
type run struct {
	About, Name, Program string
	// HostAddress is the host's address as the machine sees it, or empty.
	HostAddress                       string
	Processor, DarwinProcessor        string
	Firmware                          []string
	SecureBoot, TPM, Terminal, Ejects bool
	// Helpers reports that other programs run beside the machine.
	Helpers              bool
	RootImage, RootTitle string
	RootSize             int64
	RootFull             bool
	DataDisks            []dataDisk
	Media                []medium
	Shares               []share
	Reach                []string
	// Removed are the disks that go when the machine is removed, and Kept those that stay.
	Removed, Kept []string
	Options       []string
	system        catalog.System
	// Seed is the device of the seed image.
	Seed string
	// devices counts those on the SATA controller.
	devices int
	hasSCSI bool
}

// clockOf returns QEMU's word for what the hardware clock is set to.
func clockOf(clock fleet.Clock) string {
	switch clock {
	case fleet.UTC:
		return "utc"
	case fleet.Local:
		return "localtime"
	}
	return ""
}

func runScript(job *render.Job, m *fleet.Machine) ([]byte, error) {
	f := job.Fleet
	image := f.Image(m.Image)
	if image == nil {
		return nil, fmt.Errorf("image %q is not defined", m.Image)
	}
	processor, known := processors[image.Arch]
	if !known {
		return nil, fmt.Errorf("architecture %q is not known", image.Arch)
	}
	r := run{
		About: quote.Comment("#", m.About), Name: m.Name, Program: processor.program,
		Processor: processor.linux, DarwinProcessor: processor.darwin,
		SecureBoot: m.Firmware.SecureBoot, TPM: m.Firmware.TPM,
		// A headless machine writes to its log even on a terminal.
		Terminal: m.Console.Kind != fleet.Headless,
		Reach:    hypervisor.Ways(f, m), system: catalog.Of(f, m),
	}
	r.option("-name", m.Name)
	r.option("-no-user-config", "-nodefaults")
	r.machine(m, processor)
	r.option("-cpu", "max")
	r.option("-smp", fmt.Sprint(m.Resources.CPUs))
	r.option("-m", memory(m.Resources.Memory))
	r.disks(job, m, image)
	r.media(job, m, image)
	if err := r.networks(f, m); err != nil {
		return nil, err
	}
	r.shares(job, m)
	r.Helpers = len(r.Shares) > 0 || r.TPM
	r.console(m, image.Arch)
	r.option("-device", "virtio-rng-pci")
	if m.FirstBoot.GuestTools {
		r.option("-device", "virtio-serial-pci")
		r.option("-chardev", "socket,id=agent,path=agent.sock,server=on,wait=off")
		r.option("-device", "virtserialport,chardev=agent,name=org.qemu.guest_agent.0")
	}
	r.option("-rtc", "base="+clockOf(m.Clock))
	r.option("-qmp", "unix:qmp.sock,server=on,wait=off")
	r.option("-chardev", "pipe,id=control,path=control")
	r.option("-mon", "chardev=control,mode=readline")
	r.option("-pidfile", m.Name+".pid")

	var script bytes.Buffer
	if err := runTemplate().Execute(&script, r); err != nil {
		return nil, fmt.Errorf("run.sh: %w", err)
	}
	return script.Bytes(), nil
}

// option adds an option and its value, both quoted for the shell.
func (r *run) option(words ...string) {
	for i, word := range words {
		words[i] = quote.Shell(word)
	}
	r.Options = append(r.Options, strings.Join(words, " "))
}

// expanded adds an option whose value the shell fills in. The value must not contain
// anything that a person wrote.
func (r *run) expanded(option, value string) {
	r.Options = append(r.Options, option+` "`+value+`"`)
}

// memory writes an amount in the units of -m, which are K, M and B.
func memory(amount fleet.Bytes) string {
	switch {
	case amount%fleet.MiB == 0:
		return fmt.Sprintf("%dM", amount/fleet.MiB)
	case amount%fleet.KiB == 0:
		return fmt.Sprintf("%dK", amount/fleet.KiB)
	}
	return fmt.Sprintf("%dB", amount)
}
