// Package hostfacts looks at this computer: ports in use, memory, room, images
// and keys, bridges and virtualisation, as plain facts for checks.
package hostfacts

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/localfiles"
)

// Look collects what checks need to know about this host for some fleets. tools are
// the programs to look for. progress, which may be nil, gets the number of bytes read
// for checksums. What can't be found out stays unknown.
func Look(ctx context.Context, f localfiles.Files, fleets []*fleet.Fleet, tools []string,
	progress func(read int64)) (*fleet.Host, error) {
	h := &fleet.Host{
		CPUs: runtime.NumCPU(), MemoryFree: memoryFree(), Subnets: ownSubnets(), Bridges: bridges(),
		Virtualisation: virtualisation(),
		Tools:          map[string]bool{}, Images: map[string]fleet.HostImage{}, PrivateKeys: map[string]fs.FileMode{},
	}
	for _, tool := range tools {
		_, err := exec.LookPath(tool)
		h.Tools[tool] = err == nil
	}
	h.RoomAt = f.Path(".")
	h.Room = room(h.RoomAt)
	for _, fl := range fleets {
		for _, m := range fl.Machines {
			for _, port := range m.Ports {
				h.Listening = append(h.Listening, taken(port.Protocol, port.Listen, port.Host)...)
			}
			if m.Console.Kind == fleet.Graphical {
				h.Listening = append(h.Listening, taken(fleet.TCP, m.Console.Listen, m.Console.Port)...)
			}
		}
		for _, key := range fl.Keys {
			if private, ok := strings.CutSuffix(key.File, ".pub"); ok {
				if info, err := os.Stat(f.Path(private)); err == nil {
					h.PrivateKeys[private] = info.Mode().Perm()
				}
			}
		}
		for _, image := range fl.Images {
			if image.File == "" {
				continue
			}
			looked, err := lookAtImage(ctx, f, image, progress)
			if err != nil {
				return nil, err
			}
			h.Images[image.Name] = looked
		}
	}
	return h, nil
}

// taken returns the socket if another program listens on it. It tries to listen
// itself, which works for every protocol and system.
func taken(protocol fleet.Protocol, address netip.Addr, port int) []fleet.Socket {
	if port == 0 {
		return nil
	}
	at := net.JoinHostPort(address.String(), strconv.Itoa(port))
	var closer io.Closer
	var err error
	if protocol == fleet.UDP {
		closer, err = net.ListenPacket("udp", at)
	} else {
		closer, err = net.Listen("tcp", at)
	}
	if err == nil {
		closer.Close()
		return nil
	}
	if !isAddressInUse(err) {
		return nil // not ours to have, which is another matter
	}
	return []fleet.Socket{{Protocol: protocol, Address: address, Port: port}}
}

// memoryFree returns the memory that the kernel would give to new programs (proc(5),
// MemAvailable).
func memoryFree() fleet.Bytes {
	data, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return 0
	}
	lines := bufio.NewScanner(bytes.NewReader(data))
	for lines.Scan() {
		fields := strings.Fields(lines.Text())
		if len(fields) >= 2 && fields[0] == "MemAvailable:" {
			if kilobytes, err := strconv.ParseInt(fields[1], 10, 64); err == nil {
				return fleet.Bytes(kilobytes) * fleet.KiB
			}
		}
	}
	return 0
}

func ownSubnets() []netip.Prefix {
	addresses, err := net.InterfaceAddrs()
	if err != nil {
		return nil
	}
	var subnets []netip.Prefix
	for _, address := range addresses {
		if prefix, err := netip.ParsePrefix(address.String()); err == nil && !prefix.Addr().IsLoopback() &&
			!prefix.Addr().IsLinkLocalUnicast() {
			subnets = append(subnets, prefix.Masked())
		}
	}
	return subnets
}

// Bridges are the network devices with a folder of that name in sysfs.
func bridges() []string {
	found, err := filepath.Glob("/sys/class/net/*/bridge")
	if err != nil {
		return nil
	}
	names := make([]string, len(found))
	for i, path := range found {
		names[i] = filepath.Base(filepath.Dir(path))
	}
	return names
}

func virtualisation() string {
	if runtime.GOOS != "linux" {
		return ""
	}
	file, err := os.OpenFile("/dev/kvm", os.O_RDWR, 0)
	switch {
	case err == nil:
		file.Close()
		return ""
	case errors.Is(err, fs.ErrPermission):
		return "/dev/kvm is not open to this account"
	}
	return "there is no /dev/kvm"
}

func lookAtImage(ctx context.Context, f localfiles.Files, image *fleet.Image, progress func(int64)) (fleet.HostImage,
	error) {
	path := image.File
	if !filepath.IsAbs(path) {
		path = filepath.Join(image.Folder, path)
	}
	looked := fleet.HostImage{Path: path}
	file, err := f.OpenFile(path)
	if err != nil {
		switch {
		case errors.Is(err, fs.ErrNotExist):
			looked.Missing = "there is no such file"
		case errors.Is(err, localfiles.ErrIrregular):
			looked.Missing = "it is not a regular file"
		default:
			looked.Missing = "it can't be opened"
		}
		return looked, nil
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil || !info.Mode().IsRegular() {
		looked.Missing = "it is not a regular file"
		return looked, nil
	}
	looked.VirtualSize = virtualSize(file, info.Size())
	if image.SHA256 != "" {
		looked.SHA256, err = checksum(ctx, file, info, progress)
	}
	return looked, err
}

// virtualSize returns the size of the disk in a qcow2 file from its header (its
// specification: magic at 0, size at 24, big-endian). Any other file is the disk
// itself.
func virtualSize(file io.ReaderAt, size int64) fleet.Bytes {
	header := make([]byte, 32)
	if n, _ := file.ReadAt(header, 0); n == len(header) && string(header[:4]) == "QFI\xfb" {
		return fleet.Bytes(binary.BigEndian.Uint64(header[24:]))
	}
	return fleet.Bytes(size)
}
