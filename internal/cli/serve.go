package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"stavren.example/stavren"
	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/seedserver"
	"stavren.example/stavren/render"
)

// serveCall holds the flags of one call of serve.
type serveCall struct {
	load      loadFlags
	listen    string
	machines  []string
	token     string
	byAddress bool
}

func (s *session) serveCommand() *cobra.Command {
	var call serveCall
	c := &cobra.Command{
		Use:   "serve FILE",
		Short: "Serve first-boot data over HTTP",
		Long: `Serve provides first-boot data to machines that fetch it from the network. Each
machine's user-data, meta-data and network-config are below a path with its name.
Serve listens on loopback by default, prints the address of each machine's data,
logs every request, and stops on a signal.

Anyone who can connect can read the data. --by-address serves a machine's data
only to its own fixed addresses. --token-from adds a token to each path, derived
from a secret of the definition. Data that contains secrets is not served beyond
loopback without one of the two.`,
		Example: "  stavren serve tide-office.stavren.yaml\n" +
			"  stavren serve tide-office.stavren.yaml --listen 10.44.7.1:8000 --by-address",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return s.serve(c.Context(), args[0], call)
		},
	}
	call.load.add(c)
	c.Flags().StringVar(&call.listen, "listen", "127.0.0.1:8000",
		"`ADDRESS:PORT` to listen on; port 0 picks a free one")
	c.Flags().StringSliceVar(&call.machines, "machine", nil, "serve only this `MACHINE`; may be repeated")
	c.Flags().StringVar(&call.token, "token-from", "",
		"add a token to each path, derived from this `SECRET` of the definition")
	c.Flags().BoolVar(&call.byAddress, "by-address", false, "serve a machine's data only to its own fixed addresses")
	return c
}

func (s *session) serve(ctx context.Context, definition string, call serveCall) error {
	target, err := stavren.Target("cloud-init")
	if err != nil {
		return err
	}
	f, err := s.load(ctx, definition, call.load)
	if err != nil {
		return err
	}
	if err := stavren.Refusal(ctx, target, f, call.machines...); err != nil {
		var findings finding.Errors
		if errors.As(err, &findings) {
			s.printFindings(s.stderr, findings)
			s.talk("\n%s; nothing was served", summary(findings))
			return errFaults
		}
		return err
	}
	secrets := func(secret *fleet.Secret) (string, error) {
		return s.files.ReadSecret(secret, s.environment, call.load.allowOutside)
	}
	files, err := render.All(ctx, target, f, render.Options{Machines: call.machines, Secrets: secrets})
	if err != nil {
		return err
	}
	log := newAccessLog(s.stdout)
	options := seedserver.Options{ByAddress: call.byAddress, Log: log.add}
	if call.token != "" {
		secret := f.Secret(call.token)
		if secret == nil {
			return fmt.Errorf("--token-from: unknown secret %q", call.token)
		}
		if options.Token, err = secrets(secret); err != nil {
			return err
		}
	}
	if err := mayServe(call, files); err != nil {
		return err
	}
	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", call.listen)
	if err != nil {
		return fmt.Errorf("cannot listen on %s: %w; choose another with --listen", call.listen, err)
	}
	handler := seedserver.New(f, files, options)
	for _, m := range f.Machines {
		if len(call.machines) == 0 || slices.Contains(call.machines, m.Name) {
			s.talk("%s: http://%s%s", m.Name, listener.Addr(), handler.Path(m.Name))
		}
	}
	s.talk("serving; interrupt to stop")
	err = listen(ctx, listener, handler)
	if lost := log.end(); lost > 0 {
		s.talk("%d requests were not logged, since nobody read the output", lost)
	}
	return err
}

// mayServe returns an error if secrets would be served to a whole network.
func mayServe(call serveCall, files []render.File) error {
	at, err := netip.ParseAddrPort(call.listen)
	if err != nil {
		return fmt.Errorf("--listen takes an address and a port such as 127.0.0.1:8000, not %q", call.listen)
	}
	if at.Addr().IsLoopback() || call.byAddress || call.token != "" {
		return nil
	}
	for _, file := range files {
		if file.Mode&0o077 == 0 {
			return fmt.Errorf("%s contains a secret, and %s is reachable from the network; add --by-address or "+
				"--token-from SECRET", file.Name, call.listen)
		}
	}
	return nil
}

// maxConnections is the most connections at a time, and maxHeader the most bytes of a
// request.
const (
	maxConnections = 256
	maxHeader      = 16 << 10
)

// listen serves until the context ends. Requests that are running then have two seconds
// to finish.
func listen(ctx context.Context, listener net.Listener, handler http.Handler) error {
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second,
		WriteTimeout: time.Minute, IdleTimeout: 30 * time.Second, MaxHeaderBytes: maxHeader}
	stopped := make(chan struct{})
	go func() {
		defer close(stopped)
		<-ctx.Done()
		grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		if server.Shutdown(grace) != nil {
			// Connections that send nothing are no reason to wait, or to fail.
			_ = server.Close()
		}
	}()
	limited := &limitedListener{Listener: listener, free: make(chan struct{}, maxConnections)}
	if err := server.Serve(limited); !errors.Is(err, http.ErrServerClosed) {
		return fmt.Errorf("serving: %w", err)
	}
	<-stopped
	return nil
}

// limitedListener accepts only so many connections at a time; others wait.
type limitedListener struct {
	net.Listener
	free chan struct{}
}

func (l *limitedListener) Accept() (net.Conn, error) {
	l.free <- struct{}{}
	conn, err := l.Listener.Accept()
	if err != nil {
		<-l.free
		return nil, err
	}
	return &limitedConn{Conn: conn, release: sync.OnceFunc(func() { <-l.free })}, nil
}

type limitedConn struct {
	net.Conn
	release func()
}

func (c *limitedConn) Close() error {
	defer c.release()
	return c.Conn.Close()
}

// accessLog prints requests without keeping the server waiting: if nobody reads its
// output, it drops lines.
type accessLog struct {
	lines   chan string
	dropped atomic.Int64
	// stop asks the printer to end, and ended says that it has. lines stays open, since
	// requests may still be answered then.
	stop, ended chan struct{}
}

func newAccessLog(out io.Writer) *accessLog {
	l := &accessLog{lines: make(chan string, 1024), stop: make(chan struct{}), ended: make(chan struct{})}
	go func() {
		defer close(l.ended)
		for {
			select {
			case line := <-l.lines:
				l.print(out, line)
			case <-l.stop:
				for len(l.lines) > 0 {
					l.print(out, <-l.lines)
				}
				return
			}
		}
	}()
	return l
}

func (l *accessLog) print(out io.Writer, line string) {
	if _, err := io.WriteString(out, line); err != nil {
		l.dropped.Add(1)
	}
}

func (l *accessLog) add(a seedserver.Access) {
	line := fmt.Sprintf("%s %s %s %d %d\n", a.Client, visible([]rune(a.Method)), visible([]rune(a.Path)), a.Status,
		a.Bytes)
	select {
	case l.lines <- line:
	default:
		l.dropped.Add(1)
	}
}

// end waits a second for lines that aren't printed yet, and returns how many were lost.
func (l *accessLog) end() int64 {
	close(l.stop)
	select {
	case <-l.ended:
	case <-time.After(time.Second):
	}
	return l.dropped.Load() + int64(len(l.lines))
}
