package outfolder

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// finishEarlier finishes a commit that was interrupted. It doesn't trust what it finds:
// a folder of that name may have come from somewhere else. Only files that are absent,
// or that an earlier run wrote, are replaced.
func (f *Folder) finishEarlier() error {
	names, err := f.pending()
	if err != nil {
		return err
	}
	for _, name := range names {
		if name == RecordName {
			continue
		}
		state, _, err := f.state(filepath.ToSlash(name), "")
		if err != nil {
			return err
		}
		if state == foreign || state == blocked {
			return fmt.Errorf("it would replace %s, which stavren did not write; remove %s, or move that file away",
				filepath.Join(f.path, name), filepath.Join(f.path, committed))
		}
	}
	return f.finish()
}

// pending lists the files of a commit that aren't in place yet, the record last: until
// then, the next run finishes the commit.
func (f *Folder) pending() ([]string, error) {
	from := filepath.Join(f.path, committed)
	info, err := os.Lstat(from)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil && !info.IsDir() {
		err = fmt.Errorf("%s is not a folder; remove it", from)
	}
	if err != nil {
		return nil, err
	}
	var names []string
	err = filepath.WalkDir(from, func(path string, entry fs.DirEntry, err error) error {
		if err == nil && !entry.IsDir() {
			name, relErr := filepath.Rel(from, path)
			names = append(names, name)
			err = relErr
		}
		return err
	})
	slices.SortFunc(names, func(a, b string) int {
		if (a == RecordName) != (b == RecordName) {
			if a == RecordName {
				return 1
			}
			return -1
		}
		return strings.Compare(a, b)
	})
	return names, err
}

// finish moves every file of a commit to its place. It may be interrupted and repeated,
// since files that were already moved are gone from the commit.
func (f *Folder) finish() error {
	names, err := f.pending()
	if err != nil {
		return err
	}
	whole := map[string]bool{}
	for _, name := range names {
		top, _, below := strings.Cut(name, string(filepath.Separator))
		if whole[top] {
			continue
		}
		if below {
			// A folder that doesn't exist yet appears with all its files at once.
			if _, err := f.root.Lstat(top); errors.Is(err, fs.ErrNotExist) {
				if err := f.root.Rename(filepath.Join(committed, top), top); err != nil {
					return err
				}
				whole[top] = true
				continue
			}
			if err := f.root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
				return err
			}
		}
		if err := f.root.Rename(filepath.Join(committed, name), name); err != nil {
			return err
		}
	}
	return f.root.RemoveAll(committed)
}
