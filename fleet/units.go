package fleet

import (
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"
)

// Bytes is an amount of memory or disk in bytes.
type Bytes int64

// Units of [Bytes]. The binary ones follow IEC 80000-13.
const (
	KiB Bytes = 1 << 10
	MiB Bytes = 1 << 20
	GiB Bytes = 1 << 30
	TiB Bytes = 1 << 40

	KB Bytes = 1e3
	MB Bytes = 1e6
	GB Bytes = 1e9
	TB Bytes = 1e12
)

// byteUnits lists binary units first, so that String prefers them.
var byteUnits = []struct {
	suffix string
	size   Bytes
}{
	{"TiB", TiB}, {"GiB", GiB}, {"MiB", MiB}, {"KiB", KiB},
	{"TB", TB}, {"GB", GB}, {"MB", MB}, {"KB", KB},
}

// maxBytes bounds what ParseBytes accepts. It is more than any disk of the supported
// hypervisors.
const maxBytes = 8192 * TiB

// String returns the amount in the unit that gives the smallest whole number, such as
// "1536MiB" or "20GB". [ParseBytes] returns the same value for it.
func (b Bytes) String() string {
	number, suffix := int64(b), "B"
	if b != 0 {
		for _, unit := range byteUnits {
			if count := int64(b / unit.size); b%unit.size == 0 && count < number {
				number, suffix = count, unit.suffix
			}
		}
	}
	return strconv.FormatInt(number, 10) + suffix
}

// Errors of [ParseBytes], for callers that suggest remedies.
var (
	ErrNoUnit      = errors.New("the unit is missing")
	ErrUnknownUnit = errors.New("unknown unit")
	ErrTooMuch     = errors.New("more than 8192TiB")
)

// ParseBytes parses an amount with its unit, such as "512MiB", "20GB" or "100B". The
// number has to be whole and positive. Errors may be [ErrNoUnit], [ErrUnknownUnit] or
// [ErrTooMuch].
func ParseBytes(text string) (Bytes, error) {
	digits := strings.TrimRight(text, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz")
	suffix := text[len(digits):]
	number, err := strconv.ParseInt(strings.TrimSpace(digits), 10, 64)
	if err != nil || number < 0 || digits == "" || digits[0] == '+' {
		return 0, fmt.Errorf("%q is not a whole number with a unit", text)
	}
	if suffix == "" {
		return 0, ErrNoUnit
	}
	size := Bytes(0)
	if suffix == "B" {
		size = 1
	}
	for _, unit := range byteUnits {
		if suffix == unit.suffix {
			size = unit.size
		}
	}
	if size == 0 {
		return 0, fmt.Errorf("%w %q", ErrUnknownUnit, suffix)
	}
	if number > int64(maxBytes/size) {
		return 0, fmt.Errorf("%q is %w", text, ErrTooMuch)
	}
	return Bytes(number) * size, nil
}

// FormatMode writes file permissions in the form of chmod, such as "0644".
func FormatMode(mode fs.FileMode) string {
	bits := uint32(mode.Perm())
	if mode&fs.ModeSetuid != 0 {
		bits |= 0o4000
	}
	if mode&fs.ModeSetgid != 0 {
		bits |= 0o2000
	}
	if mode&fs.ModeSticky != 0 {
		bits |= 0o1000
	}
	return fmt.Sprintf("%04o", bits)
}

// ParseMode parses three or four octal digits as file permissions. The fourth has the
// set-user-id, set-group-id and sticky bits.
func ParseMode(text string) (fs.FileMode, error) {
	bits, err := strconv.ParseUint(text, 8, 16)
	if err != nil || len(text) < 3 || len(text) > 4 {
		return 0, fmt.Errorf("%q is not three or four octal digits", text)
	}
	mode := fs.FileMode(bits & 0o777)
	if bits&0o4000 != 0 {
		mode |= fs.ModeSetuid
	}
	if bits&0o2000 != 0 {
		mode |= fs.ModeSetgid
	}
	if bits&0o1000 != 0 {
		mode |= fs.ModeSticky
	}
	return mode, nil
}
