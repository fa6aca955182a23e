package seed

import (
	"encoding/binary"
	"errors"
)

// The ISO package puts the time, the account and its own name into an image.
// normalise replaces them, so that the same input gives the same bytes. Offsets are
// those of ECMA-119 (ISO 9660) and of the Rock Ridge Interchange Protocol (IEEE
// P1282).
func normalise(image []byte) error {
	const descriptor = 16 * sectorSize
	if len(image) < descriptor+sectorSize || string(image[descriptor+1:descriptor+6]) != "CD001" {
		return errors.New("the image has no primary volume descriptor")
	}
	volume := image[descriptor : descriptor+sectorSize]
	fillText(volume[446:574], "STAVREN") // data preparer, ECMA-119 8.4.22
	for i := 0; i < 4; i++ {
		// Creation, modification, expiration and effective time, 8.4.26 to 8.4.29:
		// sixteen digits zero and an offset of zero mean "not specified".
		stamp := volume[813+17*i : 813+17*(i+1)]
		for j := range stamp[:16] {
			stamp[j] = '0'
		}
		stamp[16] = 0
	}
	root := volume[156 : 156+34]
	normaliseRecord(root)
	return normaliseDirectory(image, root)
}

func fillText(field []byte, text string) {
	for i := range field {
		field[i] = ' '
	}
	copy(field, text)
}

// normaliseDirectory visits the records of a directory. Seeds have no folders below
// the root.
func normaliseDirectory(image, record []byte) error {
	start := int(binary.LittleEndian.Uint32(record[2:6])) * sectorSize
	size := int(binary.LittleEndian.Uint32(record[10:14]))
	if start < 0 || size < 0 || start+size > len(image) {
		return errors.New("the root directory lies outside the image")
	}
	directory := image[start : start+size]
	for at := 0; at < len(directory); {
		length := int(directory[at])
		if length == 0 {
			// Records don't cross sectors, so the rest of this one is empty.
			at = (at/sectorSize + 1) * sectorSize
			continue
		}
		if length < 34 || at+length > len(directory) {
			return errors.New("a directory record is cut short")
		}
		entry := directory[at : at+length]
		normaliseRecord(entry)
		nameLength := int(entry[32])
		use := 33 + nameLength + (nameLength+1)%2
		if use < len(entry) {
			normaliseUse(image, entry[use:])
		}
		at += length
	}
	return nil
}

// normaliseRecord sets the recording time to the start of 2000 (ECMA-119 9.1.5).
func normaliseRecord(record []byte) {
	copy(record[18:25], []byte{100, 1, 1, 0, 0, 0, 0})
}

// normaliseUse sets owner, mode and times in the system use entries of a record.
func normaliseUse(image, use []byte) {
	for len(use) >= 4 && use[2] >= 4 && int(use[2]) <= len(use) {
		entry := use[:use[2]]
		switch string(entry[:2]) {
		case "PX":
			setBoth(entry[20:28], 0) // owner
			setBoth(entry[28:36], 0) // group
			if mode := binary.LittleEndian.Uint32(entry[4:8]); mode&0o170000 == 0o100000 {
				setBoth(entry[4:12], 0o100444)
			} else {
				setBoth(entry[4:12], 0o040555)
			}
			if len(entry) >= 44 {
				setBoth(entry[36:44], 0) // serial number of the file
			}
		case "TF":
			width := 7
			if entry[4]&0x80 != 0 {
				width = 17
			}
			for at := 5; at+width <= len(entry); at += width {
				if width == 7 {
					copy(entry[at:], []byte{100, 1, 1, 0, 0, 0, 0})
				} else {
					copy(entry[at:], "2000010100000000\x00")
				}
			}
		case "CE":
			block := int(binary.LittleEndian.Uint32(entry[4:8])) * sectorSize
			offset := int(binary.LittleEndian.Uint32(entry[12:16]))
			length := int(binary.LittleEndian.Uint32(entry[20:24]))
			if block > 0 && block+offset+length <= len(image) {
				normaliseUse(image, image[block+offset:block+offset+length])
			}
		}
		use = use[len(entry):]
	}
}

// setBoth writes a number in both byte orders (ECMA-119 7.3.3).
func setBoth(field []byte, value uint32) {
	binary.LittleEndian.PutUint32(field[:4], value)
	binary.BigEndian.PutUint32(field[4:8], value)
}
