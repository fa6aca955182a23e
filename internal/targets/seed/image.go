package seed

import (
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/diskfs/go-diskfs/backend"
	"github.com/diskfs/go-diskfs/filesystem/iso9660"

	"stavren.example/stavren/render"
)

// Volume is the label that cloud-init looks for (NoCloud data source).
const Volume = "cidata"

const sectorSize = 2048

// Image writes files into an ISO 9660 image with Rock Ridge, which preserves their
// names. The same files give the same bytes.
//
// The ISO package reads its input from a folder, so the files pass through a
// temporary one that only this account can read. It is in memory if the system has
// such folders (/dev/shm, Filesystem Hierarchy Standard 3.0), so that secrets never
// get onto a disk.
func Image(files []render.File) (image []byte, err error) {
	const pattern = "stavren-seed-"
	folder, err := os.MkdirTemp("/dev/shm", pattern)
	if err != nil {
		folder, err = os.MkdirTemp("", pattern)
	}
	if err != nil {
		return nil, fmt.Errorf("a seed image needs a temporary folder: %w", err)
	}
	defer func() {
		if removeErr := os.RemoveAll(folder); err == nil {
			err = removeErr
		}
	}()
	for _, file := range files {
		if err := os.WriteFile(filepath.Join(folder, file.Name), file.Data, 0o600); err != nil {
			return nil, fmt.Errorf("a seed image needs a temporary file: %w", err)
		}
	}
	memory := &memory{}
	system, err := iso9660.Create(memory, 0, 0, sectorSize, folder)
	if err != nil {
		return nil, fmt.Errorf("seed image: %w", err)
	}
	if err := system.Finalize(iso9660.FinalizeOptions{RockRidge: true, VolumeIdentifier: Volume}); err != nil {
		return nil, fmt.Errorf("seed image: %w", err)
	}
	if err := normalise(memory.data); err != nil {
		return nil, fmt.Errorf("seed image: %w", err)
	}
	return memory.data, nil
}

// memory is a disk image in memory, in the form that the ISO package writes to.
type memory struct {
	data   []byte
	offset int64
}

var _ backend.Storage = (*memory)(nil)

func (m *memory) ReadAt(into []byte, offset int64) (int, error) {
	if offset >= int64(len(m.data)) {
		return 0, io.EOF
	}
	n := copy(into, m.data[offset:])
	if n < len(into) {
		return n, io.EOF
	}
	return n, nil
}

func (m *memory) WriteAt(from []byte, offset int64) (int, error) {
	if end := offset + int64(len(from)); end > int64(len(m.data)) {
		m.data = append(m.data, make([]byte, end-int64(len(m.data)))...)
	}
	return copy(m.data[offset:], from), nil
}

func (m *memory) Read(into []byte) (int, error) {
	n, err := m.ReadAt(into, m.offset)
	m.offset += int64(n)
	return n, err
}

func (m *memory) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += m.offset
	case io.SeekEnd:
		offset += int64(len(m.data))
	}
	m.offset = offset
	return offset, nil
}

func (m *memory) Stat() (fs.FileInfo, error)              { return memoryInfo{int64(len(m.data))}, nil }
func (m *memory) Close() error                            { return nil }
func (m *memory) Sys() (*os.File, error)                  { return nil, backend.ErrNotSuitable }
func (m *memory) Writable() (backend.WritableFile, error) { return m, nil }
func (m *memory) Path() string                            { return "" }

type memoryInfo struct{ size int64 }

func (i memoryInfo) Name() string       { return "seed" }
func (i memoryInfo) Size() int64        { return i.size }
func (i memoryInfo) Mode() fs.FileMode  { return 0o600 }
func (i memoryInfo) ModTime() time.Time { return time.Time{} }
func (i memoryInfo) IsDir() bool        { return false }
func (i memoryInfo) Sys() any           { return nil }
