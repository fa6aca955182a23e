package outfolder

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// record lists the files that were written, with their checksums.
type record struct {
	// About explains the file to people who find it.
	About string            `json:"about"`
	Files map[string]string `json:"files"`
}

const recordAbout = "Files that stavren wrote here, with their SHA-256. It overwrites only these, and only unchanged."

// maxRecord is the size of the largest record that is read, in bytes. Each file takes
// about a hundred.
const maxRecord = 64 << 20

// readRecord reads a record, which is empty if there is none.
func (f *Folder) readRecord(name string) (record, error) {
	r := record{About: recordAbout, Files: map[string]string{}}
	info, err := f.root.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return r, nil
	}
	switch {
	case err != nil:
	case !info.Mode().IsRegular():
		err = errors.New("it is not a regular file")
	case info.Size() > maxRecord:
		err = fmt.Errorf("it has %d bytes; the limit is %d", info.Size(), maxRecord)
	default:
		var data []byte
		if data, err = f.root.ReadFile(name); err == nil {
			err = json.Unmarshal(data, &r)
		}
	}
	if err != nil {
		return r, fmt.Errorf("cannot read %s, which lists what was written before: %w", filepath.Join(f.path, name),
			err)
	}
	if r.Files == nil {
		r.Files = map[string]string{}
	}
	return r, nil
}

func (f *Folder) writeRecord(path string) error {
	list, err := json.MarshalIndent(f.old, "", "  ")
	if err != nil {
		return err
	}
	// Only the owner can read checksums, which would be a fast way to guess secrets.
	return os.WriteFile(path, append(list, '\n'), 0o600)
}

// disown lists foreign files that are about to be overwritten by force in the record,
// as they are. If this run is interrupted, the next one may then overwrite them too.
func (f *Folder) disown(forced map[string]string) error {
	if len(forced) == 0 {
		return nil
	}
	for name, sum := range forced {
		f.old.Files[name] = sum
	}
	replacement := filepath.Join(f.temporary, RecordName)
	if err := f.writeRecord(replacement); err != nil {
		return err
	}
	return os.Rename(replacement, filepath.Join(f.path, RecordName))
}
