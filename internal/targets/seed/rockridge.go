package seed

import (
	"slices"
	"strings"
)

// Rock Ridge (RRIP, version 1) adds names, permissions and dates to directory records,
// as fields of the system use sharing protocol (SUSP). Each has a signature, its
// length and a version.

// field is one such field.
func field(signature string, data ...[]byte) []byte {
	text := slices.Concat(data...)
	return slices.Concat([]byte(signature), []byte{byte(4 + len(text)), 1}, text)
}

// rockRidge has the fields of a file, or of the root folder, which has no name.
func rockRidge(name string, folder bool) []byte {
	// Read by everyone: who can read the image is decided by its own mode.
	mode, links := 0o100444, 1
	if folder {
		mode, links = 0o040555, 2
	}
	const hasPX, hasNM, hasTF = 0x01, 0x08, 0x80
	const modified, accessed, changed = 2, 4, 8
	present := byte(hasPX | hasTF)
	if !folder {
		present |= hasNM
	}
	fields := field("RR", []byte{present})
	if !folder {
		fields = append(fields, field("NM", []byte{0}, []byte(name))...)
	}
	fields = append(fields, field("PX", both(mode), both(links), both(0), both(0))...)
	dates := []byte(strings.Repeat(recorded, 3))
	return append(fields, field("TF", []byte{modified | accessed | changed}, dates)...)
}

// continuation points to the sector with the rest of the root's fields.
func continuation() []byte {
	return field("CE", both(continuationSector), both(0), both(len(extensionReference())))
}

// extensionReference names the extension in use, as RRIP requires.
func extensionReference() []byte {
	const (
		identifier  = "RRIP_1991A"
		description = "THE ROCK RIDGE INTERCHANGE PROTOCOL PROVIDES SUPPORT FOR POSIX FILE SYSTEM SEMANTICS"
		source      = "PLEASE CONTACT DISC PUBLISHER FOR SPECIFICATION SOURCE.  SEE PUBLISHER IDENTIFIER IN " +
			"PRIMARY VOLUME DESCRIPTOR FOR CONTACT INFORMATION."
	)
	lengths := []byte{byte(len(identifier)), byte(len(description)), byte(len(source)), 1}
	return field("ER", lengths, []byte(identifier+description+source))
}
