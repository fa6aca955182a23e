package stavren_test

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// recipes lists the sections of CONTRIBUTING.md that add a target.
var recipes = []struct{ title, target string }{{"Add a cloud", "islet"}, {"Add a hypervisor", "rowboat"}}

// TestRecipes follows the recipes for new targets in CONTRIBUTING.md word for word, in
// a copy of the module. It fails if a step is missing or has become wrong.
func TestRecipes(t *testing.T) {
	page, err := os.ReadFile("CONTRIBUTING.md")
	if err != nil {
		t.Fatal(err)
	}
	folder := copyModule(t)
	for _, recipe := range recipes {
		t.Run(recipe.title, func(t *testing.T) {
			_, section, found := strings.Cut(string(page), "\n## "+recipe.title+"\n")
			if !found {
				t.Fatalf("CONTRIBUTING.md has no section %q", recipe.title)
			}
			section, _, _ = strings.Cut(section, "\n## ")
			follow(t, folder, recipe.target, section)
		})
	}
}

// block matches a fenced block, with the line above it if that names a file.
var block = regexp.MustCompile("(?s)(?:\n`([^`\n]+)`\n)?\n```(\\w+)\n(.*?)\n```\n")

// follow carries out the blocks of a section: files are written, differences applied to
// the file that was named last, and commands run.
func follow(t *testing.T, folder, target, section string) {
	t.Helper()
	file := ""
	for _, match := range block.FindAllStringSubmatch(section, -1) {
		name, form, text := match[1], match[2], match[3]+"\n"
		if name != "" {
			file = filepath.Join(folder, filepath.FromSlash(name))
		}
		switch form {
		case "sh":
			for line := range strings.Lines(text) {
				runStep(t, folder, target, strings.TrimSpace(line))
			}
		case "diff":
			apply(t, file, text)
		default:
			if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// apply replaces the lines of a difference without those that it adds by all of them.
func apply(t *testing.T, file, difference string) {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var before, after strings.Builder
	for line := range strings.Lines(difference) {
		after.WriteString(line[1:])
		if line[0] != '+' {
			before.WriteString(line[1:])
		}
	}
	if n := strings.Count(string(text), before.String()); n != 1 {
		t.Fatalf("%s has these lines %d times:\n%s", file, n, &before)
	}
	changed := strings.Replace(string(text), before.String(), after.String(), 1)
	if err := os.WriteFile(file, []byte(changed), 0o644); err != nil {
		t.Fatal(err)
	}
}

// runStep runs a command of a recipe. Of the whole test suite, it runs what a new target
// can break.
func runStep(t *testing.T, folder, target, command string) {
	t.Helper()
	commands := []string{command}
	switch command {
	case "go vet ./...":
		commands = []string{"go vet . ./internal/targets/... ./internal/conformance"}
	case "go test ./...":
		commands = []string{
			"go test . ./internal/gendocs ./internal/sizing ./internal/targets/" + target +
				" -run 'Imports|Pages|Demo|Target|Sizes'",
			"go test -v ./internal/conformance -run 'Fates//^" + target + "$'",
			"go test ./internal/conformance -run 'Opened|HostileTextsInClouds|Labels|Compressed/^" + target + "$'",
		}
	}
	for _, command := range commands {
		c := exec.Command("sh", "-c", command)
		c.Dir = folder
		out, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v\n%s", command, err, out)
		}
		if strings.Contains(command, "Fates") && !strings.Contains(string(out), "/"+target+" (") {
			t.Fatalf("no fates of %s were tested; is it listed in internal/targets/targets.go?", target)
		}
	}
}

// copyModule copies the module to a temporary folder.
func copyModule(t *testing.T) string {
	t.Helper()
	folder := t.TempDir()
	err := filepath.WalkDir(".", func(name string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && name == ".git":
			return filepath.SkipDir
		case entry.IsDir():
			return os.MkdirAll(filepath.Join(folder, name), 0o755)
		}
		data, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(folder, name), data, 0o644)
	})
	if err != nil {
		t.Fatal(err)
	}
	return folder
}
