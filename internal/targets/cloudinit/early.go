package cloudinit

import (
	"cmp"
	"fmt"
	"net/netip"
	"strings"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/targets/firewall"
)

// What has to happen before cloud-init formats and mounts disks runs as boot
// commands. They run at every start, so each can be repeated. Values are arguments,
// which no shell parses.

// command returns one boot command: a script for sh and its arguments.
func command(script string, args ...string) *yaml.Node {
	words := append([]string{"sh", "-c", script, "stavren"}, args...)
	return flow(node(words))
}

const (
	// linkDisk gives a lasting name to a disk that its platform doesn't name.
	linkDisk = `d=$(eval "$2") && [ -b "$d" ] && mkdir -p /dev/stavren && ln -sfn "$d" "/dev/stavren/$1"`
	// withSerial prints the name of the disk with a serial on FreeBSD (diskinfo(8)), since
	// images on ZFS don't have names for it.
	withSerial = `for d in $(sysctl -n kern.disks); do [ "$(diskinfo -s "/dev/$d" 2>/dev/null)" != %s ] || echo $d; done`
	// newFileSystem formats an empty disk on FreeBSD. fstyp(8) knows members of pools by -u,
	// and gpart(8) disks with partitions.
	newFileSystem = `for d in $(eval "$1"); do gpart show "$d" >/dev/null 2>&1 || [ -e "/dev/ufs/$2" ] || [ -n "$(fstyp -u "/dev/$d" 2>/dev/null)" ] || ` +
		`newfs -U -L "$2" "/dev/$d"; done`
	// newPool makes a pool of ZFS on an empty disk, or takes the one that is there.
	newPool = `kldload -n zfs; sysrc -q zfs_enable=YES >/dev/null; zpool list "$2" >/dev/null 2>&1 || ` +
		`zpool import "$2" 2>/dev/null || for d in $(eval "$1"); do gpart show "$d" >/dev/null 2>&1 || ` +
		`[ -n "$(fstyp -u "/dev/$d" 2>/dev/null)" ] || zpool create -O mountpoint="$3" "$2" "/dev/$d"; done`
	// mountDisk mounts a disk on FreeBSD by a line of its own. cloud-init's would have an
	// option that only Linux takes, comment=cloudconfig (cc_mounts).
	mountDisk = `l="/dev/ufs/$1 $2 ufs $3 0 2"; mkdir -p "$2"; grep -qxF "$l" /etc/fstab || ` +
		`{ t=$(grep -v "^/dev/ufs/$1 " /etc/fstab); printf '%s\n' "$t" "$l" >/etc/fstab; }; ` +
		`mount -p | grep -q "^/dev/ufs/$1[[:space:]]" || mount "$2"`
	// mountShare mounts a folder of the host, by one line for its tag. fstab(5) writes a
	// space as \040, which the echo of some shells would turn into a space again.
	mountShare = `mkdir -p "$2"; p=$(printf %s "$2" | sed 's/ /\\040/g'); ` +
		`l="$1 $p $4 $3 0 0"; grep -qxF "$l" /etc/fstab || ` +
		`{ t=$(grep -v "^$1 [^ ]* $4 " /etc/fstab); printf '%s\n' "$t" "$l" >/etc/fstab; }; ` +
		`mountpoint -q "$2" || mount "$2"`
	// nameNeighbours maintains lines with a mark of our own in the list of hosts.
	nameNeighbours = `m="# neighbour in $1"; shift; f=/etc/hosts; n=$(grep -v "$m\$" $f; ` +
		`for h; do echo "$h $m"; done); printf '%s\n' "$n" >$f`
	// permitRoot lets root log in by key, where the SSH server's own default is no
	// (FreeBSD's sshd_config(5)). Of several lines, the first applies.
	permitRoot = `f=/etc/ssh/sshd_config; l="PermitRootLogin prohibit-password"; grep -qxF "$l" $f || ` +
		`{ t=$(cat $f); printf '%s\n' "$l" "$t" >$f; }`
	// loadTable keeps and loads the machine's firewall by nft(8). Where nft isn't installed
	// yet, a script of the first boot loads it.
	loadTable = `mkdir -p ` + ownFolder + `; printf %s "$1" >` + tableFile + `; ` +
		`! command -v nft >/dev/null || nft -f ` + tableFile
	// loadRules has pf, which is part of FreeBSD, hold the machine's firewall from now on.
	loadRules = `f=/etc/stavren.pf.conf; printf %s "$1" >$f; sysrc -q pf_enable=YES pf_rules=$f >/dev/null; ` +
		`if pfctl -s info 2>/dev/null | grep -q "^Status: Enabled"; then pfctl -q -f $f; else service pf start; fi`
	// addLine adds a line to a file that lacks it.
	addLine = `grep -qxF "$2" "$1" || printf '%s\n' "$2" >>"$1"`
)

func earlyCommands(f *fleet.Fleet, m *fleet.Machine, system catalog.System, environment Environment,
	sources []*yaml.Node) []*yaml.Node {
	commands := append(firewallCommands(f, m, system, environment), sources...)
	for _, disk := range m.Disks {
		if disk.IsRoot() {
			continue
		}
		if environment.FindDisk != nil && disk.FileSystem != "" && system.Linux() {
			commands = append(commands, command(linkDisk, disk.Name, environment.FindDisk(m, disk)))
		}
		if disk.FileSystem != "" && system.Family.Name == catalog.FreeBSD {
			commands = append(commands, freeBSDDisk(m, disk, environment)...)
		}
	}
	if m.SSH.RootLogin != fleet.NoRootLogin && system.Family.Name == catalog.FreeBSD {
		commands = append(commands, command(permitRoot))
	}
	if environment.ShareType != "" && system.Linux() {
		for _, share := range m.Shares {
			options := "defaults,nofail"
			if environment.ShareType == "9p" {
				options += ",trans=virtio,version=9p2000.L"
			}
			if share.ReadOnly {
				options += ",ro"
			}
			commands = append(commands, command(mountShare, share.Name, share.Machine, options,
				environment.ShareType))
		}
	}
	if environment.Neighbours {
		if hosts := neighbours(f, m, environment); len(hosts) > 0 {
			commands = append(commands, command(nameNeighbours, append([]string{f.Name}, hosts...)...))
		}
	}
	return commands
}

// freeBSDDisk formats and mounts a data disk on FreeBSD, where every file system but ZFS
// is UFS.
func freeBSDDisk(m *fleet.Machine, disk *fleet.Disk, environment Environment) []*yaml.Node {
	find := fmt.Sprintf(withSerial, disk.Serial)
	if environment.FindOnFreeBSD != nil {
		find = environment.FindOnFreeBSD(m, disk)
	}
	if disk.FileSystem == "zfs" {
		return []*yaml.Node{command(newPool, find, disk.Label, cmp.Or(disk.Mount, "none"))}
	}
	commands := []*yaml.Node{command(newFileSystem, find, disk.Label)}
	if disk.Mount != "" {
		options := strings.Join(append([]string{"rw,failok"}, disk.Options...), ",")
		commands = append(commands, command(mountDisk, disk.Label, disk.Mount, options))
	}
	return commands
}

// tableFile has a machine's firewall for nft(8).
const tableFile = ownFolder + "/firewall.nft"

// firewallCommands close a machine before SSH starts, which waits for cloud-init.
func firewallCommands(f *fleet.Fleet, m *fleet.Machine, system catalog.System, environment Environment) []*yaml.Node {
	openings, refuses := environment.openings(f, m)
	switch {
	case !refuses:
		return nil
	case system.Linux():
		return []*yaml.Node{command(loadTable, firewall.NFTables(openings))}
	}
	return []*yaml.Node{command(loadRules, firewall.PF(openings))}
}

// installTable returns the script that loads the firewall where nft had to be installed
// first.
func installTable(system catalog.System) string {
	install := map[string]string{
		"apt":    "apt-get update -q\nDEBIAN_FRONTEND=noninteractive apt-get install -qy nftables",
		"dnf":    "dnf -qy install nftables",
		"zypper": "zypper -nq install nftables",
		"apk":    "apk add -q nftables",
		"pacman": "pacman -Syu --noconfirm --needed nftables",
	}[system.Family.PackageManager]
	return fmt.Sprintf("#!/bin/sh\nset -eu\ncommand -v nft >/dev/null && exit 0\n%s\nnft -f %s\n", install, tableFile)
}

// maxNeighbours is the most machines on a network that learn each other's names.
const maxNeighbours = 254

// neighbours lists the fixed addresses and names of the other machines on networks
// that have no name server.
func neighbours(f *fleet.Fleet, m *fleet.Machine, environment Environment) []string {
	var hosts []string
	listed := map[netip.Addr]bool{}
	for _, nic := range m.NICs {
		network := f.Network(nic.Network)
		if network == nil || len(network.DNS) > 0 {
			continue
		}
		beside := f.OnNetwork(network.Name)
		if len(beside) > maxNeighbours {
			continue // each would hold the names of all; they need a name server
		}
		for _, other := range beside {
			address := environment.addressOf(f, network, other.NIC)
			if other.Machine == m || !address.IsValid() || listed[address] {
				continue
			}
			listed[address] = true
			names := other.Machine.HostName
			if full := other.Machine.FullName(); full != names {
				names = full + " " + names
			}
			hosts = append(hosts, fmt.Sprintf("%v %s", address, names))
		}
	}
	return hosts
}
