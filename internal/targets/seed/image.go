package seed

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"unicode/utf16"

	"stavren.example/stavren/render"
)

// Volume is the label that cloud-init looks for (NoCloud data source).
const Volume = "cidata"

const sectorSize = 2048

// The sectors of an image, in order. ECMA-119 puts volume descriptors after sixteen
// sectors that it leaves to systems.
const (
	primarySector = 16 + iota
	jolietSector
	terminatorSector
	primaryPathsSector // least significant byte first, and then most
	primaryPathsSectorM
	jolietPathsSector
	jolietPathsSectorM
	primaryRootSector
	continuationSector
	jolietRootSector
	firstFileSector
)

// Image writes files into an ISO 9660 image (ECMA-119) with one folder. Names are
// preserved twice: by Rock Ridge, which Linux and FreeBSD read, and by Joliet, which
// Windows reads. The same files give the same bytes.
//
// It is made in memory, so that secrets never get into a temporary file. That is also
// why no package does it: those that write such images read their input from a folder.
func Image(files []render.File) ([]byte, error) {
	entries := make([]entry, 0, len(files))
	next := firstFileSector
	for _, file := range files {
		if len(file.Name) > 64 || strings.ContainsAny(file.Name, "/\x00") {
			return nil, fmt.Errorf("seed image: %q can't be the name of a file", file.Name)
		}
		entries = append(entries, entry{
			name: file.Name, short: shortName(file.Name, entries), sector: next, size: len(file.Data),
		})
		next += (len(file.Data) + sectorSize - 1) / sectorSize
	}
	image := make([]byte, next*sectorSize)
	sector := func(number int) []byte { return image[number*sectorSize:] }

	copy(sector(primarySector), descriptor(1, next, primaryPathsSector, primaryRootSector, ascii))
	copy(sector(jolietSector), descriptor(2, next, jolietPathsSector, jolietRootSector, wide))
	copy(sector(terminatorSector), "\xffCD001\x01")
	copy(sector(primaryPathsSector), pathTable(binary.LittleEndian, primaryRootSector))
	copy(sector(primaryPathsSectorM), pathTable(binary.BigEndian, primaryRootSector))
	copy(sector(jolietPathsSector), pathTable(binary.LittleEndian, jolietRootSector))
	copy(sector(jolietPathsSectorM), pathTable(binary.BigEndian, jolietRootSector))
	copy(sector(continuationSector), extensionReference())

	primary, joliet := primaryRoot(entries), jolietRoot(entries)
	if len(primary) > sectorSize || len(joliet) > sectorSize {
		return nil, fmt.Errorf("seed image: %d files don't fit into one sector", len(files))
	}
	copy(sector(primaryRootSector), primary)
	copy(sector(jolietRootSector), joliet)
	for i, file := range files {
		copy(sector(entries[i].sector), file.Data)
	}
	return image, nil
}

// entry is a file of the root folder. short is its name for readers without
// extensions.
type entry struct {
	name, short  string
	sector, size int
}

// shortName returns a name of at most eight characters of A to Z, 0 to 9 and _, with
// an empty extension and a version (ECMA-119, 7.5 and 10.1). A number keeps it apart
// from those of other files.
func shortName(name string, others []entry) string {
	plain := strings.Map(func(char rune) rune {
		switch {
		case char >= 'a' && char <= 'z':
			return char - 'a' + 'A'
		case char >= 'A' && char <= 'Z', char >= '0' && char <= '9':
			return char
		}
		return '_'
	}, name)
	short := fmt.Sprintf("%.8s.;1", plain)
	if slices.ContainsFunc(others, func(e entry) bool { return e.short == short }) {
		return fmt.Sprintf("%.5s%03d.;1", plain, len(others))
	}
	return short
}

// both writes a number least significant byte first and then most (ECMA-119, 7.3.3).
func both(number int) []byte {
	text := binary.LittleEndian.AppendUint32(nil, uint32(number))
	return binary.BigEndian.AppendUint32(text, uint32(number))
}

// both16 is both for numbers of two bytes (ECMA-119, 7.2.3).
func both16(number int) []byte {
	text := binary.LittleEndian.AppendUint16(nil, uint16(number))
	return binary.BigEndian.AppendUint16(text, uint16(number))
}

// recorded is the date of every file, 2000-01-01 (ECMA-119, 9.1.5): images must not
// depend on the clock.
const recorded = "\x64\x01\x01\x00\x00\x00\x00"

// encoding writes a text into a field of at least a size, in bytes.
type encoding func(text string, size int) []byte

// ascii pads with spaces.
func ascii(text string, size int) []byte {
	return append([]byte(text), bytes.Repeat([]byte(" "), size-len(text))...)
}

// wide is the encoding of Joliet: UTF-16, most significant byte first.
func wide(text string, size int) []byte {
	var field []byte
	for _, unit := range utf16.Encode([]rune(text)) {
		field = binary.BigEndian.AppendUint16(field, unit)
	}
	for len(field)+1 < size {
		field = append(field, 0, ' ')
	}
	return append(field, make([]byte, max(size-len(field), 0))...)
}

// descriptor is a primary (1) or supplementary (2) volume descriptor (ECMA-119, 8.4
// and 8.5).
func descriptor(kind byte, sectors, paths, root int, text encoding) []byte {
	d := []byte{kind}
	d = append(d, "CD001\x01\x00"...)
	d = append(d, text("", 32)...) // system identifier
	d = append(d, text(Volume, 32)...)
	d = append(d, make([]byte, 8)...)
	d = append(d, both(sectors)...)
	escapes := make([]byte, 32)
	if kind == 2 {
		copy(escapes, "%/E") // Joliet, level 3
	}
	d = append(d, escapes...)
	d = append(d, both16(1)...) // volumes of the set
	d = append(d, both16(1)...) // number of this one
	d = append(d, both16(sectorSize)...)
	d = append(d, both(len(pathTable(binary.LittleEndian, root)))...)
	d = binary.LittleEndian.AppendUint32(d, uint32(paths))
	d = append(d, make([]byte, 4)...) // no second copy
	d = binary.BigEndian.AppendUint32(d, uint32(paths+1))
	d = append(d, make([]byte, 4)...)
	d = append(d, record([]byte{0}, root, sectorSize, true, nil)...)
	d = append(d, text("", 128)...)        // volume set
	d = append(d, text("", 128)...)        // publisher
	d = append(d, text("STAVREN", 128)...) // who prepared the data
	d = append(d, text("", 128)...)        // application
	for range 3 {
		d = append(d, text("", 37)...) // files of copyright, abstract and bibliography
	}
	const date, never = "2000010100000000\x00", "0000000000000000\x00"
	d = append(d, date+date+never+date...)
	return append(d, 1, 0) // version of the structure of files
}

// pathTable has the one folder of an image (ECMA-119, 9.4).
func pathTable(order binary.AppendByteOrder, root int) []byte {
	table := order.AppendUint32([]byte{1, 0}, uint32(root))
	return append(order.AppendUint16(table, 1), 0, 0)
}

// record is a directory record (ECMA-119, 9.1), with fields of the system use sharing
// protocol after it.
func record(identifier []byte, sector, size int, folder bool, systemUse []byte) []byte {
	var flags byte
	if folder {
		flags = 2
	}
	r := append([]byte{0, 0}, both(sector)...)
	r = append(r, both(size)...)
	r = append(r, recorded...)
	r = append(r, flags, 0, 0)
	r = append(r, both16(1)...)
	r = append(r, byte(len(identifier)))
	r = append(r, identifier...)
	if len(r)%2 == 1 {
		r = append(r, 0)
	}
	r = append(r, systemUse...)
	if len(r)%2 == 1 {
		r = append(r, 0)
	}
	r[0] = byte(len(r))
	return r
}

// primaryRoot is the root folder with Rock Ridge, sorted by short names.
func primaryRoot(entries []entry) []byte {
	self := slices.Concat([]byte("SP\x07\x01\xbe\xef\x00"), rockRidge("", true), continuation())
	folder := record([]byte{0}, primaryRootSector, sectorSize, true, self)
	folder = append(folder, record([]byte{1}, primaryRootSector, sectorSize, true, rockRidge("", true))...)
	sorted := slices.SortedFunc(slices.Values(entries), func(a, b entry) int { return cmp.Compare(a.short, b.short) })
	for _, e := range sorted {
		folder = append(folder, record([]byte(e.short), e.sector, e.size, false, rockRidge(e.name, false))...)
	}
	return folder
}

// jolietRoot is the root folder with Joliet's names, sorted by them.
func jolietRoot(entries []entry) []byte {
	folder := record([]byte{0}, jolietRootSector, sectorSize, true, nil)
	folder = append(folder, record([]byte{1}, jolietRootSector, sectorSize, true, nil)...)
	sorted := slices.SortedFunc(slices.Values(entries), func(a, b entry) int { return cmp.Compare(a.name, b.name) })
	for _, e := range sorted {
		folder = append(folder, record(wide(e.name, 0), e.sector, e.size, false, nil)...)
	}
	return folder
}
