//go:build !unix

package outfolder

import (
	"os"
	"time"
)

// hold does nothing where folders cannot be locked.
func hold(string) (*os.File, error) { return nil, nil }

// abandoned takes a folder that nothing was done with for a day for abandoned.
func abandoned(folder string) bool {
	info, err := os.Stat(folder)
	return err == nil && time.Since(info.ModTime()) > 24*time.Hour
}
