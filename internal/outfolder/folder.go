// Package outfolder writes rendered files into a folder: all of them or none, and
// never over a file that Stavren did not write.
package outfolder

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// RecordName is the file in an output folder that lists what was written there.
const RecordName = "stavren.record.json"

// Names of the temporary folders within an output folder. Files are collected in the
// first. Renaming it to the second is the moment at which the new files take effect.
const (
	collecting = ".stavren-new-"
	committed  = ".stavren-commit"
)

// Folder collects files for an output folder and puts all of them in place at once.
type Folder struct {
	path string
	// root is the folder, out of which no link leads.
	root      *os.Root
	temporary string
	old       record
	added     map[string]string // checksums by name
	names     []string
	modes     map[string]fs.FileMode
	made      map[string]bool // folders for what is collected
	held      *os.File        // says that the temporary folder is in use
}

// Written lists what a commit did.
type Written struct {
	// New lists files that did not exist, Changed those that were replaced, and Same
	// those that were already right.
	New, Changed, Same []string
}

// InTheWayError lists files that would be overwritten although Stavren did not write
// them, or although they were changed since.
type InTheWayError struct {
	Folder string
	Names  []string
}

// Error lists the files and says what to do.
func (e *InTheWayError) Error() string {
	return fmt.Sprintf("nothing was written to %s: %s there not as stavren wrote %s: %s; move %s away, choose "+
		"another folder, or give --force",
		e.Folder, pick(len(e.Names), "one file is", "some files are"), pick(len(e.Names), "it", "them"),
		strings.Join(e.Names, ", "), pick(len(e.Names), "it", "them"))
}

func pick(count int, one, many string) string {
	if count == 1 {
		return one
	}
	return many
}

// Open starts writing to an output folder, which it creates if necessary. If an
// earlier run was interrupted while it put files in place, Open finishes that first.
func Open(path string) (*Folder, error) {
	if err := os.MkdirAll(path, 0o755); err != nil {
		return nil, fmt.Errorf("cannot create the output folder: %w", err)
	}
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, fmt.Errorf("cannot open the output folder: %w", err)
	}
	f := &Folder{path: path, root: root, added: map[string]string{}, modes: map[string]fs.FileMode{},
		made: map[string]bool{}}
	if err := f.begin(); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// begin finishes or removes what earlier runs left, and creates the folder that
// collects files.
func (f *Folder) begin() error {
	var err error
	if f.old, err = f.readRecord(RecordName); err != nil {
		return err
	}
	if err := f.finishEarlier(); err != nil {
		return fmt.Errorf("cannot finish what an earlier run began in %s: %w", f.path, err)
	}
	if f.old, err = f.readRecord(RecordName); err != nil {
		return err
	}
	removeAbandoned(f.path)
	if f.temporary, err = os.MkdirTemp(f.path, collecting); err != nil {
		return fmt.Errorf("cannot write to the output folder: %w", err)
	}
	if f.held, err = hold(f.temporary); err != nil {
		return fmt.Errorf("cannot write to the output folder: %w", err)
	}
	return nil
}

// removeAbandoned removes what killed runs had collected, which may contain secrets.
// What can't be removed is left to the next run.
func removeAbandoned(path string) {
	entries, err := os.ReadDir(path)
	if err != nil {
		return // what follows needs the folder too, and says so
	}
	for _, entry := range entries {
		folder := filepath.Join(path, entry.Name())
		if strings.HasPrefix(entry.Name(), collecting) && abandoned(folder) {
			_ = os.RemoveAll(folder)
		}
	}
}

// Add collects one file. Nothing appears in the output folder yet.
func (f *Folder) Add(name string, data []byte, mode fs.FileMode) error {
	if !filepath.IsLocal(filepath.FromSlash(name)) {
		return fmt.Errorf("file name %q leads out of the output folder", name)
	}
	if _, twice := f.added[name]; twice {
		return fmt.Errorf("file %q is rendered twice", name)
	}
	path := filepath.Join(f.temporary, filepath.FromSlash(name))
	if folder := filepath.Dir(path); !f.made[folder] {
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return fmt.Errorf("cannot write %s: %w", name, err)
		}
		f.made[folder] = true
	}
	if err := os.WriteFile(path, data, mode.Perm()); err != nil {
		return fmt.Errorf("cannot write %s: %w", name, err)
	}
	sum := sha256.Sum256(data)
	f.added[name] = hex.EncodeToString(sum[:])
	f.modes[name] = mode.Perm()
	f.names = append(f.names, name)
	return nil
}

// Commit puts all files in place. If it would overwrite what Stavren did not write,
// it changes nothing and returns an [InTheWayError], unless force is set.
func (f *Folder) Commit(force bool) (Written, error) {
	var written Written
	var inTheWay []string
	forced := map[string]string{}
	for _, name := range f.names {
		state, sum, err := f.state(name, f.added[name])
		switch {
		case err != nil:
			return Written{}, fmt.Errorf("cannot look at %s in the output folder: %w", name, err)
		case force && state == foreign:
			forced[name] = sum
			written.Changed = append(written.Changed, name)
		case state == absent:
			written.New = append(written.New, name)
		case state == same:
			written.Same = append(written.Same, name)
		case state == ours:
			written.Changed = append(written.Changed, name)
		default:
			inTheWay = append(inTheWay, name)
		}
	}
	if len(inTheWay) > 0 {
		return Written{}, &InTheWayError{f.path, inTheWay}
	}
	for _, name := range written.Same {
		// The file is already right, but its mode may be too wide.
		if err := f.root.Chmod(filepath.FromSlash(name), f.modes[name]); err != nil {
			return Written{}, fmt.Errorf("cannot set the mode of %s: %w", name, err)
		}
		if err := os.Remove(filepath.Join(f.temporary, filepath.FromSlash(name))); err != nil {
			return Written{}, fmt.Errorf("cannot write to the output folder: %w", err)
		}
	}
	if err := f.disown(forced); err != nil {
		return Written{}, fmt.Errorf("cannot record what is written: %w", err)
	}
	for name, sum := range f.added {
		f.old.Files[name] = sum
	}
	if err := f.writeRecord(filepath.Join(f.temporary, RecordName)); err != nil {
		return Written{}, fmt.Errorf("cannot record what is written: %w", err)
	}
	if err := flush(f.temporary); err != nil {
		return Written{}, fmt.Errorf("cannot write to the output folder: %w", err)
	}
	if err := os.Rename(f.temporary, filepath.Join(f.path, committed)); err != nil {
		return Written{}, fmt.Errorf("cannot put the files in place: %w", err)
	}
	if err := f.finish(); err != nil {
		return Written{}, fmt.Errorf("cannot put the files in place; the next run goes on: %w", err)
	}
	return written, nil
}

// Close discards what was collected but not committed.
func (f *Folder) Close() error {
	if f.held != nil {
		_ = f.held.Close() // it was only held, not written
	}
	_ = f.root.Close()
	if f.temporary == "" {
		return nil
	}
	return os.RemoveAll(f.temporary)
}

// fileState says how a file in the output folder relates to the collected one.
type fileState int

const (
	absent  fileState = iota
	same              // the same bytes
	ours              // as an earlier run wrote it
	foreign           // written or changed by somebody else
	blocked           // not a regular file
)

// state looks at a file in the output folder whose new checksum is wanted. It returns
// its present checksum if it is a regular file.
func (f *Folder) state(name, wanted string) (state fileState, sum string, err error) {
	path := filepath.FromSlash(name)
	info, err := f.root.Lstat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return absent, "", nil
	case err != nil:
		return blocked, "", err
	case !info.Mode().IsRegular():
		return blocked, "", nil
	}
	file, err := f.root.Open(path)
	if err != nil {
		return blocked, "", err
	}
	defer file.Close()
	hash := sha256.New()
	if _, err := io.Copy(hash, file); err != nil {
		return blocked, "", err
	}
	switch sum := hex.EncodeToString(hash.Sum(nil)); sum {
	case wanted:
		return same, sum, nil
	case f.old.Files[name]:
		return ours, sum, nil
	default:
		return foreign, sum, nil
	}
}
