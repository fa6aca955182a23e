// Package localfiles opens the files of this computer that a person or a
// definition names: definitions, the files beside them, and secrets. It opens only
// regular files and folders, since reading from a pipe or a device may never end.
package localfiles

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"stavren.example/stavren/fleet"
)

// MaxRead is the most that ReadFile reads, in bytes.
const MaxRead = 16 << 20

// ErrIrregular reports a file that is neither a regular file nor a folder.
var ErrIrregular = errors.New("it is not a regular file")

// Files opens files by the names that people type: relative to Folder, or absolute.
// Unlike os.DirFS, it accepts names that lead upwards.
type Files struct {
	// Folder is what relative names start from. Empty means the current folder.
	Folder string
}

// Path turns a name into a path of the operating system.
func (f Files) Path(name string) string {
	path := filepath.FromSlash(name)
	if filepath.IsAbs(path) || f.Folder == "" {
		return path
	}
	return filepath.Join(f.Folder, path)
}

// Open implements fs.FS, but accepts names that lead upwards.
func (f Files) Open(name string) (fs.File, error) { return f.OpenFile(name) }

// OpenFile is Open with the file of the operating system.
func (f Files) OpenFile(name string) (*os.File, error) {
	return regular(os.OpenFile(f.Path(name), os.O_RDONLY|nonblock, 0))
}

// ReadFile reads a regular file of at most [MaxRead] bytes. It implements
// fs.ReadFileFS.
func (f Files) ReadFile(name string) ([]byte, error) {
	file, err := f.OpenFile(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	data, err := io.ReadAll(io.LimitReader(file, MaxRead+1))
	if err == nil && len(data) > MaxRead {
		return nil, fmt.Errorf("%s is larger than %v", name, fleet.Bytes(MaxRead))
	}
	return data, err
}

// Sub returns the files below a folder. Nothing outside it can be reached, not even
// through a symbolic link. It implements fs.SubFS.
func (f Files) Sub(name string) (fs.FS, error) {
	root, err := os.OpenRoot(f.Path(name))
	if err != nil {
		return nil, err
	}
	return inside{root}, nil
}

// inside opens files below a folder.
type inside struct{ root *os.Root }

func (i inside) Open(name string) (fs.File, error) {
	return regular(i.root.OpenFile(filepath.FromSlash(name), os.O_RDONLY|nonblock, 0))
}

// regular closes a file that was just opened if it is a pipe, a device or a socket.
func regular(file *os.File, err error) (*os.File, error) {
	if err != nil {
		return nil, err
	}
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() && !info.IsDir() {
		err = &fs.PathError{Op: "open", Path: file.Name(), Err: ErrIrregular}
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
}
