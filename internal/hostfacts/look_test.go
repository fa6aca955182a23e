package hostfacts_test

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/hostfacts"
	"stavren.example/stavren/internal/localfiles"
)

func TestLook(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	folder := t.TempDir()
	header := make([]byte, 512)
	copy(header, "QFI\xfb")
	binary.BigEndian.PutUint64(header[24:], 3<<30)
	for name, data := range map[string][]byte{"thin.qcow2": header, "plain.raw": make([]byte, 4096), "ops.pub": nil,
		"ops": nil} {
		if err := os.WriteFile(filepath.Join(folder, name), data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	taken := listener.Addr().(*net.TCPAddr).Port
	loopback := netip.MustParseAddr("127.0.0.1")
	f := &fleet.Fleet{
		Images: []*fleet.Image{
			{Name: "thin", File: "thin.qcow2", Folder: "."}, {Name: "plain", File: "plain.raw", SHA256: "x"},
			{Name: "none", File: "none.qcow2"}, {Name: "folder", File: "."}, {Name: "nameless"},
		},
		Keys: []*fleet.Key{{Name: "ops", Content: fleet.Content{File: "ops.pub"}}, {Name: "typed"}},
		Machines: []*fleet.Machine{{Name: "m", Ports: []*fleet.Port{
			{Name: "taken", Host: taken, Protocol: fleet.TCP, Listen: loopback},
			{Name: "udp", Host: taken, Protocol: fleet.UDP, Listen: loopback},
			{Name: "elsewhere", Host: taken, Protocol: fleet.TCP, Listen: netip.MustParseAddr("192.0.2.7")},
		}}},
	}
	read := int64(0)
	h, err := hostfacts.Look(context.Background(), localfiles.Files{Folder: folder}, []*fleet.Fleet{f},
		[]string{"sh", "no-such-program"}, func(n int64) { read += n })
	if err != nil {
		t.Fatal(err)
	}
	if len(h.Listening) != 1 || h.Listening[0].Port != taken || h.Listening[0].Protocol != fleet.TCP {
		t.Errorf("listening: %+v", h.Listening)
	}
	sum := sha256.Sum256(make([]byte, 4096))
	if h.Images["thin"].VirtualSize != 3*fleet.GiB || h.Images["thin"].SHA256 != "" ||
		h.Images["plain"].VirtualSize != 4*fleet.KiB || h.Images["plain"].SHA256 != hex.EncodeToString(sum[:]) {
		t.Errorf("images: %+v", h.Images)
	}
	if h.Images["none"].Missing == "" || h.Images["folder"].Missing == "" || len(h.Images) != 4 {
		t.Errorf("images: %+v", h.Images)
	}
	if h.PrivateKeys["ops"] != 0o644 || len(h.PrivateKeys) != 1 {
		t.Errorf("private keys: %v", h.PrivateKeys)
	}
	if !h.Tools["sh"] || h.Tools["no-such-program"] || h.CPUs < 1 || h.Room == 0 {
		t.Errorf("host: %+v", h)
	}
	if read != 4096 {
		t.Errorf("progress reported %d bytes", read)
	}
}

// TestChecksumIsKept checks that a file is only read again after it has changed.
func TestChecksumIsKept(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	folder := t.TempDir()
	path := filepath.Join(folder, "image")
	write := func(text string, at time.Time) {
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(path, at, at); err != nil {
			t.Fatal(err)
		}
	}
	f := &fleet.Fleet{Images: []*fleet.Image{{Name: "i", File: "image", SHA256: "x"}}}
	look := func() (sum string, read int64) {
		h, err := hostfacts.Look(context.Background(), localfiles.Files{Folder: folder}, []*fleet.Fleet{f}, nil,
			func(n int64) { read += n })
		if err != nil {
			t.Fatal(err)
		}
		return h.Images["i"].SHA256, read
	}
	write("tides", time.Unix(1000, 0))
	first, read := look()
	if again, reread := look(); again != first || read != 5 || reread != 0 {
		t.Errorf("read %d bytes, then %d", read, reread)
	}
	write("waves", time.Unix(2000, 0))
	if changed, reread := look(); changed == first || reread != 5 {
		t.Errorf("a changed file was not read again: %d bytes", reread)
	}
	write("ebbed", time.Unix(3000, 0))
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := hostfacts.Look(ctx, localfiles.Files{Folder: folder}, []*fleet.Fleet{f}, nil, nil); !errors.Is(err,
		context.Canceled) {
		t.Errorf("cancelled: %v", err)
	}
}
