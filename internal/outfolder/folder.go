// Package outfolder writes rendered files into a folder: all of them or none, and
// never over a file that Stavren did not write.
package outfolder

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// RecordName is the file in an output folder that lists what was written there.
const RecordName = "stavren.record.json"

// Names of the temporary folders within an output folder. Files are collected in the
// first. Renaming it to the second is the moment at which the new files take effect.
const (
	collecting = ".stavren-new-"
	committed  = ".stavren-commit"
)

// maxFile bounds the files that are written, in bytes.
const maxFile = 256 << 20

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
	lock      *os.File
	created   []string // the folders that didn't exist before, the outermost first
	done      bool
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

// Open starts writing to an output folder, which it creates if necessary. If another
// process is writing there, it calls waiting, unless that is nil, and waits until the
// other is done or the context ends. If an earlier run was interrupted while it put
// files in place, Open finishes that first.
func Open(ctx context.Context, folder string, waiting func()) (*Folder, error) {
	f := &Folder{path: folder, added: map[string]string{}, modes: map[string]fs.FileMode{}, made: map[string]bool{},
		created: missing(folder)}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		f.Close()
		return nil, fmt.Errorf("cannot create the output folder: %w", err)
	}
	var err error
	if f.root, err = os.OpenRoot(folder); err != nil {
		f.Close()
		return nil, fmt.Errorf("cannot open the output folder: %w", err)
	}
	if f.lock, err = lock(ctx, folder, waiting); err != nil {
		f.Close()
		return nil, fmt.Errorf("cannot lock the output folder: %w", err)
	}
	if err := f.begin(); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// missing lists a folder and those around it that don't exist, the outermost first.
func missing(path string) []string {
	var folders []string
	for {
		if _, err := os.Lstat(path); !errors.Is(err, fs.ErrNotExist) {
			slices.Reverse(folders)
			return folders
		}
		folders = append(folders, path)
		path = filepath.Dir(path)
	}
}

// lock locks a folder, and waits while another process has locked it.
func lock(ctx context.Context, path string, waiting func()) (*os.File, error) {
	ticker := time.NewTicker(50 * time.Millisecond)
	defer ticker.Stop()
	for first := true; ; first = false {
		file, err := tryLock(path)
		if file != nil || err != nil {
			return file, err
		}
		if first && waiting != nil {
			waiting()
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-ticker.C:
		}
	}
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
	return nil
}

// removeAbandoned removes what killed runs had collected, which may contain secrets.
// The folder is locked, so nothing else is collecting. What can't be removed is left to
// the next run.
func removeAbandoned(path string) {
	entries, err := os.ReadDir(path)
	if err != nil {
		return // what follows needs the folder too, and says so
	}
	for _, entry := range entries {
		folder := filepath.Join(path, entry.Name())
		if strings.HasPrefix(entry.Name(), collecting) {
			_ = os.RemoveAll(folder)
		}
	}
}

// Add collects one file. Nothing appears in the output folder yet.
func (f *Folder) Add(name string, data []byte, mode fs.FileMode) error {
	top, _, _ := strings.Cut(name, "/")
	switch {
	case !filepath.IsLocal(filepath.FromSlash(name)):
		return fmt.Errorf("file name %q leads out of the output folder", name)
	case path.Clean(name) != name || name == ".":
		return fmt.Errorf("file name %q is not written plainly; it would be %q", name, path.Clean(name))
	case top == RecordName || top == committed || strings.HasPrefix(top, collecting):
		return fmt.Errorf("file name %q belongs to stavren itself", name)
	case len(data) > maxFile:
		return fmt.Errorf("file %q has %d bytes; the limit is %d", name, len(data), maxFile)
	}
	if _, twice := f.added[name]; twice {
		return fmt.Errorf("file %q is rendered twice", name)
	}
	collected := filepath.Join(f.temporary, filepath.FromSlash(name))
	if folder := filepath.Dir(collected); !f.made[folder] {
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return fmt.Errorf("cannot write %s: %w", name, err)
		}
		f.made[folder] = true
	}
	if err := os.WriteFile(collected, data, mode.Perm()); err != nil {
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
	f.done = true
	if err := f.finish(); err != nil {
		return Written{}, fmt.Errorf("cannot put the files in place; the next run goes on: %w", err)
	}
	return written, nil
}

// Close discards what was collected but not committed, and the output folder if it was
// made for that.
func (f *Folder) Close() error {
	if f.root != nil {
		_ = f.root.Close()
	}
	var err error
	if f.temporary != "" {
		err = os.RemoveAll(f.temporary)
	}
	if !f.done {
		for _, folder := range slices.Backward(f.created) {
			_ = os.Remove(folder) // it stays if somebody else has put something there
		}
	}
	if f.lock != nil {
		_ = f.lock.Close() // it was only locked, not written
	}
	return err
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
	if info.Size() > maxFile {
		return foreign, "", nil // nothing that was written here is as large
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
