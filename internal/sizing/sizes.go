package sizing

import (
	"bytes"
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"stavren.example/stavren/fleet"
)

// Size is what a platform sells under one name. A flexible size provides any amount
// between its least and its most.
type Size struct {
	Name   string
	CPUs   int
	Memory fleet.Bytes
	Arch   string
	// Disk is the disk that is included, or 0.
	Disk fleet.Bytes
	// MaxCPUs and MaxMemory are 0 for a size that isn't flexible.
	MaxCPUs   int
	MaxMemory fleet.Bytes
	// Interfaces and DataDisks are the most that a machine of the size has, or 0 if the list
	// doesn't say.
	Interfaces, DataDisks int
}

// Flexible reports whether the size provides any amount in a range.
func (s Size) Flexible() bool { return s.MaxCPUs > 0 }

// The columns of a list of sizes: the first ones alone, or with the limits.
const (
	columns = "name,cpus,memory,arch,disk"
	limits  = ",interfaces,disks"
)

// ReadSizes reads sizes from CSV with the columns name, cpus, memory, arch and
// disk, and perhaps interfaces and disks. Lines that start with # are comments. An error names the line.
func ReadSizes(data []byte) ([]Size, error) {
	reader := csv.NewReader(bytes.NewReader(data))
	reader.Comment = '#'
	header, err := reader.Read()
	if given := strings.Join(header, ","); err != nil || given != columns && given != columns+limits {
		return nil, errors.New("line 1: the columns have to be name,cpus,memory,arch,disk")
	}
	var sizes []Size
	for {
		row, err := reader.Read()
		if err == io.EOF {
			return sizes, nil
		}
		if err != nil {
			return nil, err
		}
		size, err := readSize(row)
		if err != nil {
			line, _ := reader.FieldPos(0)
			return nil, fmt.Errorf("line %d: size %q: %w", line, row[0], err)
		}
		sizes = append(sizes, size)
	}
}

func readSize(row []string) (size Size, err error) {
	size.Name, size.Arch = row[0], row[3]
	if size.Name == "" {
		return size, errors.New("it has no name")
	}
	if size.Arch != "amd64" && size.Arch != "arm64" {
		return size, fmt.Errorf("arch is amd64 or arm64, not %q", size.Arch)
	}
	least, most, flexible := strings.Cut(row[1], "-")
	if size.CPUs, err = strconv.Atoi(least); err != nil || size.CPUs < 1 {
		return size, fmt.Errorf("cpus is a number such as 2, or a range, not %q", row[1])
	}
	if flexible {
		if size.MaxCPUs, err = strconv.Atoi(most); err != nil || size.MaxCPUs < size.CPUs {
			return size, fmt.Errorf("cpus is a range such as 2-64, not %q", row[1])
		}
	}
	least, most, flexible = strings.Cut(row[2], "-")
	if size.Memory, err = fleet.ParseBytes(least); err != nil {
		return size, fmt.Errorf("memory %q: %w", row[2], err)
	}
	if flexible {
		if size.MaxMemory, err = fleet.ParseBytes(most); err != nil {
			return size, fmt.Errorf("memory %q: %w", row[2], err)
		}
	}
	if row[4] != "" {
		if size.Disk, err = fleet.ParseBytes(row[4]); err != nil {
			return size, fmt.Errorf("disk %q: %w", row[4], err)
		}
	}
	if len(row) > 5 {
		for i, limit := range []*int{&size.Interfaces, &size.DataDisks} {
			if *limit, err = strconv.Atoi(cmp.Or(row[5+i], "0")); err != nil || *limit < 0 {
				return size, fmt.Errorf("interfaces and disks are numbers such as 2, or empty, not %q", row[5+i])
			}
		}
	}
	if size.Flexible() != (size.MaxMemory > 0) {
		return size, errors.New("cpus and memory both have ranges, or neither")
	}
	return size, nil
}
