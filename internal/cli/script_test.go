package cli

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// TestScripts runs the scripts below testdata/script. A script is commands,
// each with what is expected of it, and then the files that they work on:
//
//	stavren ARGUMENT...   runs the command line in the script's folder
//	exit N                its exit code; 0 unless this is said
//	out TEXT              standard output holds the text
//	err TEXT              standard error holds the text
//	not TEXT              neither of them holds the text
//	empty out|err         nothing was written there
//	file NAME TEXT        the file holds the text
//	mode NAME OCTAL       the file has these permissions
//	no NAME               there is no such file
//	append NAME TEXT      the script itself adds a line to a file
//	-- NAME --            what follows, up to the next such line, is a file
func TestScripts(t *testing.T) {
	scripts, err := filepath.Glob("testdata/script/*.txt")
	if err != nil || len(scripts) == 0 {
		t.Fatalf("no scripts: %v", err)
	}
	for _, script := range scripts {
		t.Run(strings.TrimSuffix(filepath.Base(script), ".txt"), func(t *testing.T) { runScript(t, script) })
	}
}

type scriptRun struct {
	t        *testing.T
	folder   string
	where    string
	code     int
	wantCode int
	ran      bool
	out, err bytes.Buffer
}

func runScript(t *testing.T, script string) {
	data, err := os.ReadFile(script)
	if err != nil {
		t.Fatal(err)
	}
	r := &scriptRun{t: t, folder: t.TempDir()}
	commands := r.unpack(string(data))
	for i, line := range commands {
		line = strings.TrimSpace(line)
		if line == "" || line[0] == '#' {
			continue
		}
		verb, rest, _ := strings.Cut(line, " ")
		if verb == "stavren" || verb == "append" {
			r.closeCommand()
		}
		r.where = script + ":" + strconv.Itoa(i+1)
		r.step(verb, rest)
	}
	r.closeCommand()
}

// unpack writes the script's files and returns its commands.
func (r *scriptRun) unpack(text string) []string {
	var commands []string
	name := ""
	var content strings.Builder
	write := func() {
		if name != "" {
			path := filepath.Join(r.folder, name)
			r.check(os.MkdirAll(filepath.Dir(path), 0o755))
			r.check(os.WriteFile(path, []byte(content.String()), 0o644))
		}
		content.Reset()
	}
	for _, line := range strings.SplitAfter(text, "\n") {
		trimmed := strings.TrimSpace(line)
		if strings.HasPrefix(trimmed, "-- ") && strings.HasSuffix(trimmed, " --") {
			write()
			name = strings.TrimSpace(trimmed[3 : len(trimmed)-3])
			continue
		}
		if name == "" {
			commands = append(commands, line)
		} else {
			content.WriteString(line)
		}
	}
	write()
	return commands
}

func (r *scriptRun) check(err error) {
	r.t.Helper()
	if err != nil {
		r.t.Fatalf("%s: %v", r.where, err)
	}
}

// closeCommand compares the exit code of the command before.
func (r *scriptRun) closeCommand() {
	r.t.Helper()
	if r.ran && r.code != r.wantCode {
		r.t.Errorf("%s: exit code %d, want %d\n%s%s", r.where, r.code, r.wantCode, &r.out, &r.err)
	}
	r.ran, r.wantCode = false, 0
}

func (r *scriptRun) step(verb, rest string) {
	r.t.Helper()
	both := r.out.String() + r.err.String()
	name, text, _ := strings.Cut(rest, " ")
	path := filepath.Join(r.folder, name)
	switch verb {
	case "stavren":
		r.out.Reset()
		r.err.Reset()
		s := newSession(strings.NewReader(""), &r.out, &r.err, []string{"TERM=dumb"}, r.folder)
		r.code, r.ran = s.run(context.Background(), strings.Fields(rest)), true
	case "exit":
		code, err := strconv.Atoi(rest)
		r.check(err)
		r.wantCode = code
	case "out":
		if !strings.Contains(r.out.String(), rest) {
			r.t.Errorf("%s: standard output lacks %q:\n%s", r.where, rest, &r.out)
		}
	case "err":
		if !strings.Contains(r.err.String(), rest) {
			r.t.Errorf("%s: standard error lacks %q:\n%s", r.where, rest, &r.err)
		}
	case "not":
		if strings.Contains(both, rest) {
			r.t.Errorf("%s: the output has %q:\n%s", r.where, rest, both)
		}
	case "empty":
		if rest == "out" && r.out.Len() > 0 || rest == "err" && r.err.Len() > 0 {
			r.t.Errorf("%s: standard %s is not empty:\n%s", r.where, rest, both)
		}
	case "file":
		data, err := os.ReadFile(path)
		r.check(err)
		if !strings.Contains(string(data), text) {
			r.t.Errorf("%s: %s lacks %q:\n%s", r.where, name, text, data)
		}
	case "mode":
		info, err := os.Stat(path)
		r.check(err)
		if got := strconv.FormatUint(uint64(info.Mode().Perm()), 8); got != text {
			r.t.Errorf("%s: %s has mode %s, want %s", r.where, name, got, text)
		}
	case "no":
		if _, err := os.Lstat(path); err == nil {
			r.t.Errorf("%s: there is a file %s", r.where, name)
		}
	case "append":
		r.check(os.MkdirAll(filepath.Dir(path), 0o755))
		file, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		r.check(err)
		_, err = file.WriteString(text + "\n")
		r.check(err)
		r.check(file.Close())
	default:
		r.t.Fatalf("%s: unknown step %q", r.where, verb)
	}
}
