package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"slices"
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
	f, err := s.load(definition, call.load)
	if err != nil {
		return err
	}
	if err := stavren.Refusal(target, f, call.machines...); err != nil {
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
	options := seedserver.Options{ByAddress: call.byAddress, Log: func(a seedserver.Access) {
		fmt.Fprintf(s.stdout, "%s %s %s %d %d\n", a.Client, visible([]rune(a.Method)), visible([]rune(a.Path)), a.Status, a.Bytes)
	}}
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
	return listen(ctx, listener, handler)
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

// listen serves until the context ends, and then lets running requests finish.
func listen(ctx context.Context, listener net.Listener, handler http.Handler) error {
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second,
		WriteTimeout: time.Minute}
	stopped := make(chan error, 1)
	go func() {
		<-ctx.Done()
		grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		stopped <- server.Shutdown(grace)
	}()
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return fmt.Errorf("serving: %w", err)
	}
	return <-stopped
}
