package localfiles_test

import (
	"os"
	"path/filepath"
	"testing"

	"stavren.example/stavren/internal/localfiles"
)

func TestConfinedFolder(t *testing.T) {
	folder := t.TempDir()
	inside := filepath.Join(folder, "inside")
	if err := os.Mkdir(inside, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "outside"), []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("../outside", filepath.Join(inside, "link")); err != nil {
		t.Fatal(err)
	}
	files := localfiles.Files{Folder: folder}
	if _, err := files.Open("inside/../outside"); err != nil {
		t.Errorf("a person may name any file: %v", err)
	}
	confined, err := files.Sub("inside")
	if err != nil {
		t.Fatal(err)
	}
	if file, err := confined.Open("link"); err == nil {
		file.Close()
		t.Error("a link leads out of the folder")
	}
}
