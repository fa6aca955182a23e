//go:build !linux

package outfolder

import (
	"io/fs"
	"os"
	"path/filepath"
)

// flush writes the files of a folder to the disk, so that the rename that follows
// never gets there first.
func flush(folder string) error {
	return filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		file, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			return err
		}
		defer file.Close()
		return file.Sync()
	})
}
