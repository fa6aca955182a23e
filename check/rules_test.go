package check_test

import (
	"strings"
	"testing"
	"time"

	"stavren.example/stavren/check"
)

// edge is a definition of machines and the rules that they break.
type edge struct{ machines, want string }

// edges has the limits of each rule: what is just wrong, what is just right, and what
// isn't a mistake.
var edges = []struct {
	theme string
	rows  []edge
}{
	{"resources", []edge{
		{"  a: {image: bookworm, resources: {memory: 256MiB}}", ""},
		{"  a: {image: bookworm, resources: {memory: 255MiB}}", "memory-below-need"},
		{"  a: {image: bookworm, disks: {root: {size: 2GiB}}}", ""},
	}},
	{"disks", []edge{
		{"  a: {image: bookworm, disks: {d: {size: 1GiB, filesystem: ext4, mount: /var/lib/tides}}}", ""},
		{"  a: {image: bookworm, disks: {d: {size: 1GiB, filesystem: ext4, mount: /etc}}}", "mount-hides-system"},
		{"  a: {image: bookworm, disks: {d: {size: 1GiB, filesystem: ext4, mount: /srv}}, shares: {s: {host: x, " +
			"machine: /srv}}}", "mount-used-twice"},
		{"  a: {image: bookworm, disks: {d: {size: 1GiB, filesystem: ext4, mount: /srv, label: sixteen-letters-}}}",
			""},
		{"  a: {image: bookworm, disks: {d: {size: 1GiB, filesystem: ext4, mount: /srv, label: seventeen-letters}}}",
			"label-too-long"},
		{"  a: {image: bookworm, disks: {d: {size: 1GiB, filesystem: vfat, mount: /srv, label: twelve-chars}}}",
			"filesystem-tool-missing label-too-long"},
		{"  a: {image: bookworm, shares: {s: {host: /home/mira/charts, machine: /srv/c}}}", ""},
		{"  a: {image: bookworm, shares: {s: {host: /home/mira/.ssh, machine: /srv/c}}}", "share-of-home"},
		{"  a: {image: bookworm, shares: {s: {host: /, machine: /srv/c}}}", "share-of-home"},
		{"  a: {image: bookworm, shares: {s: {host: charts, machine: /srv/c}}}", ""},
	}},
	{"ports", []edge{
		{"  a: {image: bookworm, ports: {p: {host: 1023, machine: 80}}}", "port-below-limit"},
		{"  a: {image: bookworm, ports: {p: {host: 1024, machine: 80}}}", ""},
		{"  a: {image: bookworm, ports: {p: {host: 32767, machine: 80}}}", ""},
		{"  a: {image: bookworm, ports: {p: {host: 32768, machine: 80}}}", "port-in-outgoing-range"},
		{"  a: {image: bookworm, ports: {p: {host: 61000, machine: 80}}}", ""},
		{"  a: {image: bookworm, ports: {p: {machine: 80, listen: 0.0.0.0}}}", ""},
		{"  a: {image: bookworm, ports: {p: {machine: 5432, listen: \"::\"}}}", "port-listens-to-all"},
		{"  a: {image: bookworm, ports: {p: {machine: 5432, listen: 192.0.2.7}}}", ""},
		{"  a: {image: bookworm, ports: {p: {host: 5901, machine: 80}}, console: {kind: graphical, port: 5901}}",
			"port-claimed-twice"},
		{"  a: {image: bookworm, console: {kind: graphical}}\n  b: {image: bookworm, console: {kind: graphical}}", ""},
	}},
	{"networks", []edge{
		{"  a: {image: bookworm, ports: none, nics: {quay: {}}}", "no-way-in"},
		{"  a: {image: bookworm, ports: none, nics: {quay: {}}, console: {kind: graphical}}", ""},
		{"  a: {image: bookworm, nics: {quay: {primary: true}, more: {network: quay}}}", ""},
		{"  a: {image: bookworm, copies: 2, nics: {quay: {hardware_address: \"02:00:5e:10:00:01\"}}}", ""},
		{"  a: {image: bookworm, names: [b.example], domain: example}\n  b: {image: bookworm, domain: example}",
			"dns-name-twice"},
		{"  a: {image: bookworm, domain: one.example}\n  b: {image: bookworm, host_name: a, domain: two.example}", ""},
		{"  a: {image: bookworm, names: [x.example, a]}", ""},
	}},
	{"users", []edge{
		{"  a: {image: bookworm, users: {mira: {keys: none}}}\n  b: {image: bookworm}", "nobody-can-log-in"},
		{"  a: {image: bookworm, users: {mira: {keys: none, password_hash: \"$6$s$h\"}}}\n  b: {image: bookworm}", ""},
		{"  a: {image: bookworm, users: {mira: {keys: none, password_hash: \"$6$s$h\", locked: true}}}\n" +
			"  b: {image: bookworm}", "nobody-can-log-in"},
		{"  a: {image: bookworm, users: {mira: {keys: none, password_hash: \"$6$s$h\"}}, console: {kind: " +
			"headless}}\n  b: {image: bookworm}", "nobody-can-log-in"},
		{"  a: {image: bookworm, users: {mira: {admin: no}, eyd: {admin: without-password}}}", ""},
		{"  a: {image: bookworm, users: {mira: {admin: no}}, ssh: {root_login: by-key}}", "login-by-root"},
		{"  a: {image: bookworm, users: {eyd: {admin: with-password, password_hash: \"$6$s$h\"}}}", ""},
		{"  a: {image: bookworm, users: {eyd: {}, jonas: {}}}", ""},
		{"  a: {image: bookworm, users: {www-data: {}}}", "user-reserved"},
		{"  a: {image: bookworm, users: {mira: {shell: /bin/bash}}}", ""},
		{"  a: {image: bookworm, users: {mira: {shell: /bin/sh}}}", ""},
		{"  a: {image: bookworm, users: {mira: {shell: /usr/bin/fish}}}", "shell-not-installed"},
		{"  a: {image: bookworm, users: {mira: {shell: /usr/bin/fish}}, first_boot: {packages: [fish]}}", ""},
		{"  a: {image: bookworm, users: {eyd: {keys: [ops]}, jonas: {keys: [ops]}}}",
			"key-shared-by-people key-shared-by-people"},
		{"  a: {image: bookworm, users: {eyd: {password_hash: \"$1$s$h\"}}}", "password-hash-weak"},
		{"  a: {image: bookworm, users: {eyd: {password_hash: \"$y$j9T$s$h\"}}}", ""},
	}},
	{"files and scripts", []edge{
		{"  a: {image: bookworm, first_boot: {files: {/f: {text: x, mode: \"0662\"}}}}", "file-world-writable"},
		{"  a: {image: bookworm, first_boot: {files: {/f: {text: x, mode: \"0664\"}}}}", ""},
		{"  a: {image: bookworm, first_boot: {files: {/f: {text: x, owner: \"www-data:www-data\"}}}}", ""},
		{"  a: {image: bookworm, first_boot: {files: {/f: {text: x, owner: \"nginx:nginx\"}}}}", "owner-not-made"},
		{"  a: {image: bookworm, first_boot: {scripts: {s: {text: id, run_as: tides}}}}", "owner-not-made"},
		{"  a: {image: bookworm, first_boot: {scripts: {s: {text: id, run_as: mira}}}}", ""},
		{"  a: {image: bookworm, first_boot: {scripts: {s: {text: \"sudo id\", run_as: mira}}}}", ""},
		{"  a: {image: bookworm, first_boot: {scripts: {s: {text: \"echo a\\r\\n\"}}}}",
			"script-with-windows-line-ends"},
		{"  a: {image: bookworm, first_boot: {scripts: {s: {text: \"apk add socat\"}}}}", "script-for-another-system"},
		{"  a: {image: bookworm, first_boot: {scripts: {s: {text: \"which apk && apk add socat\"}}}}", ""},
		{"  a: {image: bookworm, first_boot: {scripts: {s: {text: \"echo apk add socat\"}}}}", ""},
		{"  a: {image: bookworm, first_boot: {scripts: {s: {when: every-boot, text: \"if ! id t; then useradd t; " +
			"fi\"}}}}", ""},
		{"  a: {image: bookworm, first_boot: {scripts: {s: {when: every-boot, text: \"mkfs.ext4 /dev/vdb\"}}}}",
			"script-not-repeatable"},
		{"  a: {image: bookworm, first_boot: {scripts: {s: {text: \"mkfs.ext4 /dev/vdb\"}}}}", ""},
		{"  a: {image: bookworm, first_boot: {upgrade: true, scripts: {s: {when: every-boot, text: \"modprobe " +
			"wireguard\"}}}}", ""},
		{"  a: {image: bookworm, first_boot: {upgrade: true, scripts: {s: {text: \"insmod /lib/tide.ko\"}}}}",
			"restart-needed-in-between"},
	}},
	{"media and buses", []edge{
		{"  a: {image: bookworm, media: {m: {file: x.iso}}}", ""},
		{"  a: {image: bookworm, media: {m: {file: x.iso, boot_first: true}}}", "medium-boots-forever"},
		{"  a: {image: bookworm, disks: {root: {bus: scsi}, d: {size: 1GiB, bus: nvme}}}", ""},
	}},
	{"firmware and console", []edge{
		{"  a: {image: bookworm, firmware: {kind: uefi, secure_boot: true, tpm: true}}", ""},
		{"  a: {image: bookworm, console: {kind: graphical, listen: 192.0.2.7}}", "console-open"},
		{"  a: {image: bookworm, console: {kind: graphical, listen: \"::1\"}}", ""},
	}},
	{"a public address", []edge{
		{"  a: {image: bookworm, public_address: true}", "public-without-firewall"},
		{"  a: {image: bookworm, public_address: true, firewall: [f]}\n" +
			"firewalls: {f: {allow: [{port: 22/tcp, from: 192.0.2.0/24}, {port: 443/tcp, from: any}]}}",
			"open-to-world"},
		{"  a: {image: bookworm, public_address: true, firewall: [f]}\n" +
			"firewalls: {f: {allow: [{port: 22/tcp, from: 192.0.2.0/24}, {port: 443/tcp, from: any}]}}\n" +
			"accept: {open-to-world: On purpose}", ""},
		{"  a: {image: bookworm, public_address: true, firewall: [f]}\n" +
			"firewalls: {f: {allow: [{port: 22/tcp, from: 0.0.0.0/0}]}}", "sensitive-port-open-to-world"},
		{"  a: {image: bookworm, public_address: true, firewall: [f]}\n" +
			"firewalls: {f: {allow: [{port: 20-30/tcp, from: 192.0.2.0/24}]}}", ""},
		{"  a: {image: bookworm, public_address: true, firewall: [f]}\n" +
			"firewalls: {f: {allow: [{port: 22/udp, from: any}]}}", "firewall-shuts-login-out open-to-world"},
		{"  a: {image: bookworm, public_address: true, firewall: [f], ports: {w: {machine: 443}}}\n" +
			"firewalls: {f: {allow: [{port: 22/tcp, from: 192.0.2.0/24}]}}", "port-stopped-by-firewall"},
		{"  a: {image: bookworm, firewall: [f], ports: {w: {machine: 443}}}\n" +
			"firewalls: {f: {allow: [{port: 22/tcp, from: 192.0.2.0/24}]}}", ""},
	}},
	{"firewalls", []edge{
		{"  a: {image: bookworm, firewall: [f]}\nfirewalls: {f: {allow: [{port: 1-65535/tcp, from: 0.0.0.0/0}]}}",
			"everything-open"},
		{"  a: {image: bookworm, firewall: [f]}\nfirewalls: {f: {allow: [{port: 3000-3400/tcp, from: any}]}}",
			"sensitive-port-open-to-world"},
		{"  a: {image: bookworm, firewall: [f]}\nfirewalls: {f: {allow: [{port: 3306/udp, from: any}]}}", ""},
		{"  a: {image: bookworm, firewall: [f]}\nfirewalls: {f: {allow: [{port: icmp, from: any}]}}", ""},
		{"  a: {image: bookworm, firewall: [f]}\nfirewalls: {f: {allow: [{port: 80-90/tcp, from: 192.0.2.0/24}, " +
			"{port: 85/tcp, from: 192.0.2.128/25}]}}", "firewall-rule-shadowed"},
		{"  a: {image: bookworm, firewall: [f]}\nfirewalls: {f: {allow: [{port: 85/tcp, from: 192.0.2.128/25}, " +
			"{port: 80-90/tcp, from: 192.0.2.0/24}]}}", "firewall-rule-shadowed"},
		{"  a: {image: bookworm, firewall: [f]}\nfirewalls: {f: {allow: [{port: 80/tcp, from: 192.0.2.0/24}, " +
			"{port: 80/udp, from: 192.0.2.0/24}]}}", ""},
		{"  a: {image: bookworm, firewall: [f]}\nfirewalls: {f: {allow: [{port: 80/tcp, from: 192.0.2.0/24}, " +
			"{port: 80/tcp, from: 192.0.2.0/24}]}}", "firewall-rule-shadowed"},
	}},
	{"limits", []edge{
		{"  a: {image: bookworm}\nlimits: {host: {memory: 1GiB}}", ""},
		{"  a: {image: bookworm, copies: 2}\nlimits: {host: {memory: 2047MiB}}", "over-host-memory"},
		{"  a: {image: bookworm, resources: {cpus: 4}}\nlimits: {host: {cpus: 4}}", ""},
		{"  a: {image: bookworm, resources: {cpus: 1}, copies: 17}\nlimits: {host: {cpus: 4}}", "over-host-cpus"},
		{"  a: {image: bookworm, copies: 3}\nlimits: {heat: {cpus: 2, disk: 20GiB}}", "over-quota over-quota"},
		{"  a: {image: bookworm, public_address: true, firewall: [f], copies: 2}\n" +
			"firewalls: {f: {allow: [{port: 22/tcp, from: 192.0.2.0/24}]}}\nlimits: {heat: {public_addresses: 1}}",
			"over-quota"},
	}},
	{"bookkeeping", []edge{
		{"  a: {image: bookworm, accept: {login-by-password: Old clients}, ssh: {password_login: true}}", ""},
		{"  a: {image: bookworm, ssh: {password_login: true}}\naccept: {login-by-password: Old clients}", ""},
		{"  a: {image: bookworm}\naccept: {login-by-password: Old clients}", "accept-unused"},
		{"  a: {image: bookworm}\naccept: {unknown-image: Never mind}", "accept-unknown"},
		{"  a: {image: bookworm}\nsecrets: {s: {env: S}}", "defined-and-unused"},
		{"  a: {image: bookworm, first_boot: {files: {/f: {text: \"{{ secret `s` }}\", fill: true, mode: " +
			"\"0600\"}}}}\nsecrets: {s: {env: S}}", ""},
	}},
}

func TestEdges(t *testing.T) {
	for _, group := range edges {
		for _, c := range group.rows {
			t.Run(group.theme+"/"+strings.TrimSpace(c.machines), func(t *testing.T) {
				if got := names(run(t, today, loaded(t, withBase(c.machines+"\n")))); got != c.want {
					t.Errorf("%s\n got %q\nwant %q", c.machines, got, c.want)
				}
			})
		}
	}
}

// TestNetworkEdges tries the rules on networks themselves.
func TestNetworkEdges(t *testing.T) {
	for _, c := range []struct{ quay, machines, want string }{
		{"mode: nat, subnet: 10.44.7.0/29", "{image: bookworm}", ""},
		{"mode: nat, subnet: 10.44.7.0/30", "{image: bookworm}", "subnet-unfit"},
		{"mode: nat, subnet: 10.0.0.0/8", "{image: bookworm}", ""},
		{"mode: nat, subnet: \"fd00:44::/64\"", "{image: bookworm}", "subnet-unfit"},
		{"mode: isolated, subnet: \"fd00:44::/64\"", "{image: bookworm}", ""},
		{"mode: bridged, bridge: br0", "{image: bookworm, nics: {quay: {address: 192.0.2.9}}}", "address-without-subnet"},
		{"mode: host-only, subnet: 10.44.7.0/24", "{image: bookworm, ports: none, nics: {quay: {address: 10.44.7.1}}}",
			""},
		{"mode: nat, subnet: 10.44.7.0/24, gateway: 10.44.8.1", "{image: bookworm}", "gateway-outside-subnet"},
		{"mode: nat, subnet: 10.44.7.0/24, dhcp_first: 10.44.7.20, dhcp_last: 10.44.7.20",
			"{image: bookworm, nics: {quay: {address: 10.44.7.20}}}", "address-handed-out"},
		{"mode: nat, subnet: 10.44.7.0/24, dhcp_first: 10.44.7.20, dhcp_last: 10.44.7.20",
			"{image: bookworm, nics: {quay: {address: 10.44.7.21}}}", ""},
		{"mode: nat, subnet: 10.44.7.0/24}\n  pier: {subnet: 10.44.8.0/24",
			"{image: bookworm, nics: {quay: {}, pier: {}}}", ""},
		{"mode: nat, subnet: 10.44.0.0/16}\n  pier: {subnet: 10.44.8.0/24",
			"{image: bookworm, nics: {quay: {}, pier: {}}}", "subnets-overlap"},
	} {
		t.Run(c.quay, func(t *testing.T) {
			text := strings.Replace(withBase("  a: "+c.machines+"\n"), "mode: nat, subnet: 10.44.7.0/24", c.quay, 1)
			if got := names(run(t, today, loaded(t, text))); got != c.want {
				t.Errorf("%s %s\n got %q\nwant %q", c.quay, c.machines, got, c.want)
			}
		})
	}
}

// TestEndOfSupport checks that the date decides, and that nothing is reported without
// one.
func TestEndOfSupport(t *testing.T) {
	f := loaded(t, withBase("  a: {image: bookworm}\n")) // Debian 12, supported until 2028-06-30
	for date, want := range map[string]string{
		"2028-03-31": "", "2028-04-01": "system-support-ends-soon", "2028-06-30": "system-support-ends-soon",
		"2028-07-01": "system-out-of-support",
	} {
		t.Run(date, func(t *testing.T) {
			day, err := time.Parse(time.DateOnly, date)
			if err != nil {
				t.Fatal(err)
			}
			if got := names(run(t, check.Options{Today: day}, f)); got != want {
				t.Errorf("on %s: got %q, want %q", date, got, want)
			}
		})
	}
	if got := names(run(t, check.Options{}, f)); got != "" {
		t.Errorf("without a date: %q", got)
	}
}

// TestLimitsCountAllFiles checks that limits apply to the machines of all files
// together.
func TestLimitsCountAllFiles(t *testing.T) {
	one := loaded(t, withBase("  a: {image: bookworm}\nlimits: {heat: {machines: 1}}\n"))
	two := loaded(t, strings.Replace(withBase("  b: {image: bookworm}\n"), "tide-office", "archive", 1))
	if got := names(run(t, today, one)); got != "" {
		t.Errorf("one file: %q", got)
	}
	if got := names(run(t, today, one, two)); got != "over-quota" {
		t.Errorf("two files: %q", got)
	}
}
