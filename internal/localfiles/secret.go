package localfiles

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"strings"

	"stavren.example/stavren/fleet"
)

// maxSecret bounds the file of a secret, in bytes.
const maxSecret = 64 << 10

// ReadSecret reads a secret from the environment, a list of NAME=VALUE, or from its
// file. Like all files that a definition names, the file has to be below the
// definition's folder unless files outside are allowed. Errors never contain the
// secret.
func (f Files) ReadSecret(secret *fleet.Secret, environment []string, allowOutside bool) (string, error) {
	if secret.Env != "" {
		for _, entry := range environment {
			if value, ok := strings.CutPrefix(entry, secret.Env+"="); ok && value != "" {
				return value, nil
			}
		}
		return "", fmt.Errorf("the environment variable %s is not set", secret.Env)
	}
	file, err := f.openSecret(secret, allowOutside)
	if err != nil {
		return "", err
	}
	defer file.Close()
	if info, err := file.Stat(); err == nil && info.IsDir() {
		return "", fmt.Errorf("%s is a folder", secret.File)
	}
	data, err := io.ReadAll(io.LimitReader(file, maxSecret+1))
	if err != nil {
		return "", err
	}
	value := strings.TrimSuffix(strings.TrimSuffix(string(data), "\n"), "\r")
	switch {
	case value == "":
		return "", fmt.Errorf("the file %s is empty", secret.File)
	case len(value) > maxSecret:
		return "", fmt.Errorf("the file %s is larger than %v", secret.File, fleet.Bytes(maxSecret))
	}
	return value, nil
}

func (f Files) openSecret(secret *fleet.Secret, allowOutside bool) (fs.File, error) {
	if allowOutside {
		path := secret.File
		if !filepath.IsAbs(path) {
			path = filepath.Join(secret.Folder, path)
		}
		return f.Open(path)
	}
	if !filepath.IsLocal(filepath.FromSlash(secret.File)) {
		return nil, errors.New("its file is not below the definition's folder; move it there, or give --allow-outside")
	}
	folder, err := f.Sub(secret.Folder)
	if err != nil {
		return nil, err
	}
	return folder.Open(filepath.ToSlash(filepath.Clean(secret.File)))
}
