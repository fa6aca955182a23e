package document

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"stavren.example/stavren/fleet"
)

// MaxContent is the size of a file that a definition includes, in bytes.
const MaxContent = 4 << 20

// maxContents bounds the files that a definition includes together, in bytes.
const maxContents = 64 << 20

// Files opens definitions and the files that they name.
type Files struct {
	fs           fs.FS
	allowOutside bool
	contents     map[string]content
	// included and used are the bytes of the files that were included, and of the
	// definitions that were used.
	included, used int
	folders        map[string]fs.FS
}

// content is the outcome of reading one file.
type content struct {
	data   string
	err    error
	remedy string
}

// NewFiles returns Files that opens paths in a file system. Unless allowOutside is
// set, files that a definition names have to be in its folder.
func NewFiles(files fs.FS, allowOutside bool) *Files {
	return &Files{fs: files, allowOutside: allowOutside, contents: map[string]content{}, folders: map[string]fs.FS{}}
}

var errFolder = errors.New("it is a folder")

// Definition reads a definition that a person names. It reads little more than
// [MaxDefinition], which [Parse] refuses.
func (f *Files) Definition(name string) ([]byte, error) {
	return readDefinition(f.fs.Open(name))
}

// Used reads a definition that another one names in a layer, within the folder of that
// one.
func (f *Files) Used(l Layer, named string) ([]byte, error) {
	data, err := readDefinition(f.open(l.Folder(), path.Clean(named), f.Resolve(l, named)))
	if f.used += len(data); f.used > MaxDefinition {
		return nil, fmt.Errorf("the definitions that are used have more than %v together", fleet.Bytes(MaxDefinition))
	}
	return data, err
}

func readDefinition(file fs.File, err error) ([]byte, error) {
	if err != nil {
		return nil, withoutPath(err)
	}
	defer file.Close()
	info, err := file.Stat()
	switch {
	case err != nil:
		return nil, withoutPath(err)
	case info.IsDir():
		return nil, errFolder
	case !info.Mode().IsRegular():
		return nil, errIrregular
	}
	data := bytes.NewBuffer(make([]byte, 0, min(info.Size(), MaxDefinition)+bytes.MinRead))
	if _, err := data.ReadFrom(io.LimitReader(file, MaxDefinition+1)); err != nil {
		return nil, withoutPath(err)
	}
	return data.Bytes(), nil
}

// IsOutside reports whether a path in a definition leaves its folder although that
// isn't allowed.
func (f *Files) IsOutside(named string) bool {
	clean := path.Clean(named)
	return !f.allowOutside && (path.IsAbs(named) || clean == ".." || strings.HasPrefix(clean, "../"))
}

// Resolve returns the path of a file that a layer names.
func (f *Files) Resolve(l Layer, named string) string {
	if path.IsAbs(named) {
		return path.Clean(named)
	}
	return path.Join(l.Folder(), named)
}

// Content reads the file that the value of a layer names, once however often it is
// named. It reports a fault and returns false if that is impossible.
func (f *Files) Content(faults *Faults, l Layer) (name, data string, ok bool) {
	named := l.Node.Value
	switch {
	case named == "" || strings.ContainsRune(named, 0):
		faults.Add(BadValue, l, faults.Here()+" is not a path", "write the path of a file, relative to the definition")
		return "", "", false
	case f.IsOutside(named) && path.IsAbs(named):
		faults.Add(PathOutside, l, faults.Here()+" is the absolute path "+Quoted(named),
			"move the file below the definition's folder and write its relative path, or give --allow-outside")
		return "", "", false
	case f.IsOutside(named):
		faults.Add(PathOutside, l, faults.Here()+" is "+Quoted(named)+", which leaves the definition's folder",
			"move the file below that folder, or give --allow-outside")
		return "", "", false
	}
	name = f.Resolve(l, named)
	if path.IsAbs(named) {
		name = named
	}
	read, known := f.contents[name]
	if !known {
		if f.included <= maxContents {
			read = f.read(l.Folder(), path.Clean(named), name)
			f.included += len(read.data)
		}
		if f.included > maxContents {
			read = content{
				err: fmt.Errorf("with %s, the files that the definition includes have more than %v", Quoted(name),
					fleet.Bytes(maxContents)),
				remedy: "first-boot data is small on every platform; let a script fetch large files",
			}
		}
		f.contents[name] = read
	}
	if read.err != nil {
		faults.Add(FileUnreadable, l, read.err.Error(), read.remedy)
		return "", "", false
	}
	return name, read.data, true
}

func (f *Files) read(folder, inside, name string) content {
	data, err := f.readRegular(folder, inside, name)
	switch {
	case err == nil && len(data) > MaxContent:
		return content{
			err:    fmt.Errorf("%s has more than %v, which is the limit", Quoted(name), fleet.Bytes(MaxContent)),
			remedy: "first-boot data is small on every platform; let a script fetch large files",
		}
	case err == nil:
		return content{data: string(data)}
	case errors.Is(err, errFolder):
		return content{err: fmt.Errorf("%s is a folder", Quoted(name)), remedy: "name a file"}
	case errors.Is(err, errIrregular):
		return content{err: fmt.Errorf("%s is not a regular file", Quoted(name)), remedy: "name a regular file"}
	case errors.Is(err, fs.ErrNotExist):
		return content{
			err:    fmt.Errorf("there is no file %s", Quoted(name)),
			remedy: "check the path; it is relative to the folder of the definition",
		}
	case errors.Is(err, fs.ErrPermission):
		return content{err: fmt.Errorf("this account is not allowed to read %s", Quoted(name)),
			remedy: "change its mode or owner"}
	}
	return content{
		err:    fmt.Errorf("cannot read %s: %w", Quoted(name), withoutPath(err)),
		remedy: "check that the path is right and does not leave the folder by a link, or give --allow-outside",
	}
}

var errIrregular = errors.New("it is not a regular file")

func (f *Files) readRegular(folder, inside, name string) ([]byte, error) {
	file, err := f.open(folder, inside, name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	info, err := file.Stat()
	switch {
	case err != nil:
		return nil, err
	case info.IsDir():
		return nil, errFolder
	case !info.Mode().IsRegular():
		return nil, errIrregular
	}
	return io.ReadAll(io.LimitReader(file, MaxContent+1))
}

// open opens a file within the definition's folder, without following links out of
// it, unless files outside are allowed.
func (f *Files) open(folder, inside, name string) (fs.File, error) {
	if f.allowOutside {
		return f.fs.Open(name)
	}
	sub, known := f.folders[folder]
	if !known {
		var err error
		if own, ok := f.fs.(fs.SubFS); ok {
			// fs.Sub would refuse the absolute and upward paths that people type.
			sub, err = own.Sub(folder)
		} else {
			sub, err = fs.Sub(f.fs, folder)
		}
		if err != nil {
			return nil, err
		}
		f.folders[folder] = sub
	}
	return sub.Open(inside)
}

// withoutPath removes the path that the file system adds to an error, since messages
// already have it.
func withoutPath(err error) error {
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		return pathError.Err
	}
	return err
}
