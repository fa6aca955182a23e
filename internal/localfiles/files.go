// Package localfiles opens the files of this computer that a person or a
// definition names: definitions, the files beside them, and secrets.
package localfiles

import (
	"io/fs"
	"os"
	"path/filepath"
)

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
func (f Files) Open(name string) (fs.File, error) { return os.Open(f.Path(name)) }

// Sub returns the files below a folder. Nothing outside it can be reached, not even
// through a symbolic link. It implements fs.SubFS.
func (f Files) Sub(name string) (fs.FS, error) {
	root, err := os.OpenRoot(f.Path(name))
	if err != nil {
		return nil, err
	}
	return root.FS(), nil
}
