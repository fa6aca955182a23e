package cli

import (
	"context"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"stavren.example/stavren/internal/seedserver"
)

const served = `stavren: 1
fleet: tide-office
images: {bookworm: {os: debian-12}}
networks: {quay: {subnet: 10.44.7.0/24}}
secrets: {door: {file: door.txt}}
machines:
  almanac:
    image: bookworm
    nics: {quay: {address: 10.44.7.20}}
    first_boot:
      files:
        /etc/door: {fill: true, mode: "0600", text: "{{ secret \"door\" }}"}
accept: {nobody-can-log-in: A test, no-way-in: A test}
`

// serve starts the command and returns its exit code once it has ended, and the
// first address that it prints.
func serve(t *testing.T, ctx context.Context, args ...string) (address string, out *safeBuffer, ended chan int) {
	t.Helper()
	folder := t.TempDir()
	for name, text := range map[string]string{"tide.stavren.yaml": served, "door.txt": "high water"} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	out = &safeBuffer{}
	session := newSession(strings.NewReader(""), out, out, []string{"PATH=/"}, folder)
	ended = make(chan int, 1)
	go func() { ended <- session.run(ctx, append([]string{"serve", "tide.stavren.yaml"}, args...)) }()
	find := regexp.MustCompile(`almanac: (http://\S+)`)
	for range 200 {
		if found := find.FindStringSubmatch(out.String()); found != nil {
			return found[1], out, ended
		}
		select {
		case code := <-ended:
			ended <- code
			return "", out, ended
		case <-time.After(20 * time.Millisecond):
		}
	}
	t.Fatalf("no address was printed: %s", out)
	return "", nil, nil
}

func get(t *testing.T, url string) (string, int) {
	t.Helper()
	answer, err := http.Get(url)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	return string(body), answer.StatusCode
}

func TestServe(t *testing.T) {
	for name, c := range map[string]struct {
		args   []string
		status int
	}{
		"plain":      {nil, 200},
		"token":      {[]string{"--token-from", "door"}, 200},
		"by address": {[]string{"--by-address"}, 404},
	} {
		t.Run(name, func(t *testing.T) {
			ctx, cancel := context.WithCancel(context.Background())
			defer cancel()
			address, out, ended := serve(t, ctx, append(c.args, "--listen", "127.0.0.1:0")...)
			body, status := get(t, address+"user-data")
			if status != c.status || status == 200 && !strings.Contains(body, "high water") {
				t.Errorf("%d, %q", status, body)
			}
			cancel()
			select {
			case code := <-ended:
				if code != exitGood {
					t.Errorf("exit code %d", code)
				}
			case <-time.After(10 * time.Second):
				t.Error("it did not stop")
			}
			// Every request is in the log by the time the command has ended.
			if !strings.Contains(out.String(), "GET /almanac/") || strings.Contains(out.String(), "high water") {
				t.Errorf("log: %s", out)
			}
		})
	}
}

func TestServeRefuses(t *testing.T) {
	for want, args := range map[string][]string{
		"almanac/user-data contains a secret":    {"--listen", "0.0.0.0:0"},
		`unknown secret "gate"`:                  {"--token-from", "gate"},
		"--listen takes an address and a port":   {"--listen", "localhost"},
		`has no machine "alamnac"; did you mean`: {"--machine", "alamnac"},
	} {
		t.Run(want, func(t *testing.T) {
			_, out, ended := serve(t, context.Background(), args...)
			if code := <-ended; code != exitUnable || !strings.Contains(out.String(), want) {
				t.Errorf("%v: exit code %d, %s", args, code, out)
			}
		})
	}
}

// TestServeStopsSoon stops a server while a client is connected that sends nothing.
func TestServeStopsSoon(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	at, out, ended := serve(t, ctx, "--listen", "127.0.0.1:0")
	address, _, _ := strings.Cut(strings.TrimPrefix(at, "http://"), "/")
	silent, err := net.Dial("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	time.Sleep(50 * time.Millisecond) // the server has accepted it
	cancel()
	select {
	case code := <-ended:
		if code != exitGood {
			t.Errorf("exit code %d\n%s", code, out)
		}
	case <-time.After(4 * time.Second):
		t.Error("the server waits for a client that sends nothing")
	}
}

// TestAccessLogNobodyReads logs to an output that takes nothing.
func TestAccessLogNobodyReads(t *testing.T) {
	reader, writer := io.Pipe()
	defer reader.Close()
	log := newAccessLog(writer)
	logged := make(chan struct{})
	go func() {
		defer close(logged)
		for range 5000 {
			log.add(seedserver.Access{Client: "127.0.0.1:1", Method: "GET", Path: "/almanac/user-data\nforged"})
		}
	}()
	select {
	case <-logged:
	case <-time.After(5 * time.Second):
		t.Fatal("logging waits for a reader")
	}
	if lost := log.end(); lost < 3000 {
		t.Errorf("only %d lines were lost", lost)
	}
}

// TestAccessLogIsOneLine logs a path with a line break in it.
func TestAccessLogIsOneLine(t *testing.T) {
	var out safeBuffer
	log := newAccessLog(&out)
	log.add(seedserver.Access{Client: "127.0.0.1:1", Method: "GET", Path: "/x\n127.0.0.1:2 GET /y\x1b[2J"})
	log.end()
	if text := out.String(); strings.Count(text, "\n") != 1 || strings.Contains(text, "\x1b") {
		t.Errorf("logged %q", text)
	}
}
