//go:build !unix

package outfolder

import (
	"os"
	"time"
)

// hold does nothing on systems where folders can't be locked.
func hold(string) (*os.File, error) { return nil, nil }

// abandoned reports whether nothing happened in a folder for a day.
func abandoned(folder string) bool {
	info, err := os.Stat(folder)
	return err == nil && time.Since(info.ModTime()) > 24*time.Hour
}
