package hostfacts

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// known is a checksum in the cache. It is valid as long as the file keeps its size
// and time.
type known struct {
	Size   int64  `json:"size"`
	Time   int64  `json:"time"`
	SHA256 string `json:"sha256"`
}

// checksum returns the SHA-256 of a file, from the cache if possible.
func checksum(ctx context.Context, file *os.File, info fs.FileInfo, progress func(int64)) (string, error) {
	path, err := filepath.Abs(file.Name())
	if err != nil {
		return "", fmt.Errorf("cannot tell where %s is: %w", file.Name(), err)
	}
	cache := readCache()
	entry := known{Size: info.Size(), Time: info.ModTime().UnixNano()}
	if before, has := cache[path]; has && before.Size == entry.Size && before.Time == entry.Time {
		return before.SHA256, nil
	}
	hash := sha256.New()
	buffer := make([]byte, 1<<20)
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return "", fmt.Errorf("cannot read %s: %w", path, err)
	}
	for {
		if err := ctx.Err(); err != nil {
			return "", err
		}
		n, err := file.Read(buffer)
		hash.Write(buffer[:n])
		if progress != nil {
			progress(int64(n))
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return "", fmt.Errorf("cannot read %s: %w", path, err)
		}
	}
	entry.SHA256 = hex.EncodeToString(hash.Sum(nil))
	cache[path] = entry
	writeCache(cache)
	return entry.SHA256, nil
}

func cachePath() string {
	folder, err := os.UserCacheDir()
	if err != nil {
		return ""
	}
	return filepath.Join(folder, "stavren", "checksums.json")
}

// readCache and writeCache ignore errors, since the cache only saves time.
func readCache() map[string]known {
	cache := map[string]known{}
	if data, err := os.ReadFile(cachePath()); err == nil && json.Unmarshal(data, &cache) != nil {
		return map[string]known{}
	}
	return cache
}

func writeCache(cache map[string]known) {
	path := cachePath()
	data, err := json.MarshalIndent(cache, "", "  ")
	if path == "" || err != nil || os.MkdirAll(filepath.Dir(path), 0o700) != nil {
		return
	}
	temporary, err := os.CreateTemp(filepath.Dir(path), "checksums-")
	if err != nil {
		return
	}
	_, err = temporary.Write(data)
	if closeErr := temporary.Close(); err != nil || closeErr != nil || os.Rename(temporary.Name(), path) != nil {
		os.Remove(temporary.Name())
	}
}
