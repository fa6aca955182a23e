package cli

import (
	"context"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
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
			if !strings.Contains(out.String(), "GET /almanac/") || strings.Contains(out.String(), "high water") {
				t.Errorf("log: %s", out)
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
