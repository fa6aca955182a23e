// Package benchfleet generates harbour-wide, a large fleet in the scenario of the
// demo, for benchmarks and for tests of bounds.
package benchfleet

import (
	"fmt"
	"strings"
)

// Definition returns a valid definition with n machines, each written out in full:
// disks, an address, ports, users, packages, a file and a script.
func Definition(n int) []byte {
	var text strings.Builder
	text.WriteString(`stavren: 1
fleet: harbour-wide
about: Every gauge, buoy and beacon of the coast
images:
  bookworm: {os: debian-12, arch: amd64, file: images/debian-12-generic-amd64.qcow2}
networks:
  quay: {mode: nat, subnet: 10.32.0.0/12, search: [skerry.example]}
keys:
  ops: {text: "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIIETOlNLJsV0HX5EIsg8Ah/pNotUh2YheSPdoPzML5fE mira (made for the demo)"}
machines:
`)
	for i := range n {
		fmt.Fprintf(&text, `  gauge-%[1]d:
    about: Reads the gauge at mile %[1]d
    image: bookworm
    domain: skerry.example
    resources: {cpus: 1, memory: 512MiB}
    disks:
      root: {size: 10GiB}
      readings: {size: 5GiB, filesystem: ext4, mount: /srv/readings, keep: true}
    nics:
      quay: {address: 10.%[2]d.%[3]d.%[4]d}
    ports:
      ssh: {host: auto, machine: 22}
      buoys: {host: %[5]d, machine: 4000, protocol: udp, listen: 127.0.%[6]d.1}
    users:
      mira: {full_name: Mira Holm, groups: [adm], admin: without-password, keys: [ops]}
    first_boot:
      packages: [chrony, socat]
      files:
        /etc/gauge.conf: {text: "mile=%[1]d\n", mode: "0640", owner: root:adm}
      scripts:
        listen:
          when: every-boot
          text: |
            set -eu
            mkdir -p /srv/readings/mile-%[1]d
            systemctl start gauge
`, i, 32+i/60000, i/240%250, i%240+10, 1024+i%18000, i/18000)
	}
	return []byte(text.String())
}

// WithKits returns a valid definition with n machines that share kits. The variant
// rehearsal changes some of them.
func WithKits(n int) []byte {
	var text strings.Builder
	text.WriteString(`stavren: 1
fleet: harbour-wide
images:
  bookworm: {os: debian-12, arch: amd64, file: images/debian-12-generic-amd64.qcow2}
networks:
  quay: {mode: nat, subnet: 10.32.0.0/12, search: [skerry.example]}
keys:
  ops: {text: "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIIETOlNLJsV0HX5EIsg8Ah/pNotUh2YheSPdoPzML5fE mira (made for the demo)"}
kits:
  base:
    image: bookworm
    domain: skerry.example
    users:
      mira: {full_name: Mira Holm, groups: [adm], admin: without-password, keys: [ops]}
  gauge:
    kits: [base]
    resources: {cpus: 1, memory: 512MiB}
    disks:
      readings: {size: 5GiB, filesystem: ext4, mount: /srv/readings, keep: true}
    first_boot:
      packages: [chrony, socat]
      scripts:
        listen: {when: every-boot, text: "set -eu\nsystemctl start gauge\n"}
machines:
`)
	for i := range n {
		fmt.Fprintf(&text, `  gauge-%[1]d:
    about: Reads the gauge at mile %[1]d
    kits: [gauge]
    nics: {quay: {address: 10.%[2]d.%[3]d.%[4]d}}
    ports:
      ssh: {machine: 22}
      buoys: {host: %[5]d, machine: 4000, protocol: udp, listen: 127.0.%[6]d.1}
    labels: {mile: "%[1]d", coast: west}
    first_boot:
      packages: [tide-tools]
      files:
        /etc/gauge.conf: {text: "mile=%[1]d\n", mode: "0640", owner: root:adm}
`, i, 32+i/60000, i/240%250, i%240+10, 1024+i%18000, i/18000)
	}
	text.WriteString("variants:\n  rehearsal:\n    machines:\n")
	for i := 0; i < n; i += 10 {
		fmt.Fprintf(&text, "      gauge-%d: {resources: {memory: 256MiB}, labels: {coast: none}}\n", i)
	}
	return []byte(text.String())
}
