package outfolder

import (
	"os"

	"golang.org/x/sys/unix"
)

// flush writes a folder and its contents to the disk, so that the rename that follows
// never gets there first. One call for the whole file system costs far less than one
// for each of many files.
func flush(folder string) error {
	file, err := os.Open(folder)
	if err != nil {
		return err
	}
	defer file.Close()
	return unix.Syncfs(int(file.Fd()))
}
