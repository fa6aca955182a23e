// Package examples contains the demo data: the fleet of the made-up Skerry Tide
// Office, and two faulty ones. The keys in it were made for the demo; nobody has
// their private halves.
package examples

import (
	"embed"
	"io/fs"
)

//go:embed tide-office
var files embed.FS

// TideOffice returns the folder of the demo's definitions.
func TideOffice() fs.FS {
	folder, err := fs.Sub(files, "tide-office")
	if err != nil {
		panic(err) // the folder is compiled in
	}
	return folder
}
