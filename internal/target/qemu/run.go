package qemu

import (
	"bytes"
	"fmt"
	"strings"
	"text/template"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/quote"
	"stavren.example/stavren/render"
)

// runTemplate is run.sh. Its options come ready and quoted; everything else in
// it is fixed text, which shellcheck reads in the tests.
var runTemplate = template.Must(template.New("run.sh").Parse(`#!/bin/sh
{{.About}}# Starts the virtual machine {{.Name}} with QEMU and stays until it is off.
# The first start makes its disks beside this script; later ones keep them.
#
#   STAVREN_ACCEL  accelerator, such as tcg; by default KVM or HVF where this
#                  host has it, else emulation
#   STAVREN_IMAGE  base image of the root disk, in place of the definition's
set -eu

fail() {
	echo "{{.Name}}: $1" >&2
	exit 1
}

image=${STAVREN_IMAGE:-}
case $image in
'' | /*) ;;
*) image=$PWD/$image ;;
esac
cd -- "$(dirname -- "$0")"
[ -n "$image" ] || image={{.Image}}

if [ -e {{.Name}}.pid ] && kill -0 "$(cat {{.Name}}.pid)" 2>/dev/null; then
	fail "is running already, as process $(cat {{.Name}}.pid)"
fi
for program in {{.Program}} qemu-img; do
	command -v "$program" >/dev/null || fail "needs $program, which is not installed"
done

# A disk is made under another name first, so that a start that was cut short
# never leaves half a disk.
if [ ! -e root.qcow2 ]; then
	[ -r "$image" ] || fail "there is no base image $image; put it there, or name one with STAVREN_IMAGE"
	case $(head -c 4 "$image" | od -An -tx1 | tr -d ' ') in
	514649fb) format=qcow2 ;;
	*) format=raw ;;
	esac
	qemu-img create -q -f qcow2 -F "$format" -b "$image" root.part
	qemu-img resize -q root.part {{.RootSize}} ||
		fail "the base image is larger than the {{.RootTitle}} of the root disk; give the disk more"
	mv root.part root.qcow2
fi
{{- range .DataDisks}}
if [ ! -e {{.File}} ]; then
	qemu-img create -q -f qcow2 {{.Name}}.part {{.Size}}
	mv {{.Name}}.part {{.File}}
fi
{{- end}}

accelerator=${STAVREN_ACCEL:-}
if [ -z "$accelerator" ]; then
	accelerator=tcg
	case $(uname -s)/$(uname -m) in
	Linux/{{.Processor}}) [ -w /dev/kvm ] && accelerator=kvm:tcg ;;
	Darwin/{{.DarwinProcessor}}) accelerator=hvf:tcg ;;
	esac
fi
{{- if .Firmware}}

for firmware in {{.Firmware}}; do
	[ -r "$firmware" ] && break
done
[ -r "$firmware" ] || fail "needs UEFI firmware for {{.Processor}}, which is not installed"
{{- end}}

# On a terminal the machine's console is shown; Ctrl-A X ends the machine.
console=file:console.log
if [ -t 0 ] && [ -t 1 ]; then
	console=mon:stdio
fi
{{- range .Reach}}
echo {{.}} >&2
{{- end}}

exec {{.Program}} \
{{- range .Options}}
	{{.}} \
{{- end}}
	-serial "$console"
`))

// disk is a data disk in the script.
type disk struct {
	Name, File string
	Size       int64
}

// run is what the template is filled with.
type run struct {
	About, Name, Program, Image string
	Processor, DarwinProcessor  string
	Firmware                    string
	RootSize                    int64
	RootTitle                   string
	DataDisks                   []disk
	Reach                       []string
	Options                     []string
}

// processors are the names that QEMU, Linux and Darwin have for architectures.
var processors = map[string]struct{ qemu, linux, darwin, machine, firmware string }{
	"amd64": {"qemu-system-x86_64", "x86_64", "x86_64", "q35", ""},
	"arm64": {"qemu-system-aarch64", "aarch64", "arm64", "virt",
		"/usr/share/AAVMF/AAVMF_CODE.fd /usr/share/qemu-efi-aarch64/QEMU_EFI.fd /usr/share/edk2/aarch64/QEMU_EFI.fd /opt/homebrew/share/qemu/edk2-aarch64-code.fd"},
}

// clocks are QEMU's words for what the hardware clock is set to.
var clocks = map[fleet.Clock]string{fleet.UTC: "utc", fleet.Local: "localtime"}

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
	root := m.Disks[0]
	r := run{
		About: quote.Comment("#", m.About), Name: m.Name, Program: processor.qemu,
		Image:     quote.Shell(imagePath(job, image)),
		Processor: processor.linux, DarwinProcessor: processor.darwin, Firmware: processor.firmware,
		RootSize: int64(root.Size), RootTitle: root.Size.String(),
	}
	r.option("-name", m.Name)
	r.option("-no-user-config", "-nodefaults")
	r.Options = append(r.Options, `-machine "`+processor.machine+`,accel=$accelerator"`)
	if processor.firmware != "" {
		r.Options = append(r.Options, `-bios "$firmware"`)
	}
	r.option("-cpu", "max")
	r.option("-smp", fmt.Sprint(m.Resources.CPUs))
	r.option("-m", memory(m.Resources.Memory))
	for i, d := range m.Disks {
		file := d.Name + ".qcow2"
		node := fmt.Sprintf("disk%d", i)
		r.option("-blockdev", "driver=qcow2,node-name="+node+",discard=unmap,file.driver=file,file.filename="+quote.QEMU(file))
		device := "virtio-blk-pci,drive=" + node + ",serial=" + quote.QEMU(d.Serial)
		if d.IsRoot() {
			device += ",bootindex=0"
		} else {
			r.DataDisks = append(r.DataDisks, disk{d.Name, file, int64(d.Size)})
		}
		r.option("-device", device)
	}
	r.option("-blockdev", "driver=raw,node-name=seed,read-only=on,file.driver=file,file.filename=seed.iso")
	r.option("-device", "virtio-blk-pci,drive=seed")
	for i, nic := range m.NICs {
		netdev, err := userNetwork(f, m, i)
		if err != nil {
			return nil, err
		}
		r.option("-netdev", netdev)
		r.option("-device", fmt.Sprintf("virtio-net-pci,netdev=net%d,mac=%s", i, nic.HardwareAddress))
	}
	r.option("-device", "virtio-rng-pci")
	r.option("-rtc", "base="+clocks[m.Clock])
	r.option("-display", "none")
	r.option("-qmp", "unix:qmp.sock,server=on,wait=off")
	r.option("-pidfile", m.Name+".pid")
	r.Reach = reach(m)

	var script bytes.Buffer
	if err := runTemplate.Execute(&script, r); err != nil {
		return nil, fmt.Errorf("run.sh: %w", err)
	}
	return script.Bytes(), nil
}

func (r *run) option(words ...string) {
	for i, word := range words {
		words[i] = quote.Shell(word)
	}
	r.Options = append(r.Options, strings.Join(words, " "))
}

// memory writes an amount in the units of -m, which knows K, M and B.
func memory(amount fleet.Bytes) string {
	switch {
	case amount%fleet.MiB == 0:
		return fmt.Sprintf("%dM", amount/fleet.MiB)
	case amount%fleet.KiB == 0:
		return fmt.Sprintf("%dK", amount/fleet.KiB)
	}
	return fmt.Sprintf("%dB", amount)
}

// reach words where the forwarded ports are, for whoever starts the script.
func reach(m *fleet.Machine) []string {
	var lines []string
	for _, port := range m.Ports {
		lines = append(lines, quote.Shell(fmt.Sprintf("%s: %s on %s, port %d/%s", m.Name, port.Name, port.Listen, port.Host, port.Protocol)))
	}
	return lines
}
