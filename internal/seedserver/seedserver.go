// Package seedserver serves first-boot data over HTTP to the machines that it is for
// (cloud-init's NoCloud data source with a network seed). It is a handler; the caller
// listens.
package seedserver

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"net"
	"net/http"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/render"
)

// Access is a request that was answered.
type Access struct {
	Client, Method, Path string
	Status, Bytes        int
	// Machine is the machine whose data was requested, or empty.
	Machine string
}

// Options says who may read which data. The zero value serves every machine's data to
// anyone who can reach the server.
type Options struct {
	// Token is a secret that the machines' tokens are derived from, or empty; see
	// [Token].
	Token string
	// ByAddress serves data only to the fixed addresses of its machine.
	ByAddress bool
	// Log, if it is set, is called for every request.
	Log func(Access)
}

// Server answers GET and HEAD for /MACHINE/FILE, or /MACHINE/TOKEN/FILE.
type Server struct {
	options Options
	fleet   *fleet.Fleet
	files   map[string]render.File
	// token matches everything that has the form of a token.
	token *regexp.Regexp
}

// New returns a server of rendered files, which are named MACHINE/FILE.
func New(f *fleet.Fleet, files []render.File, options Options) *Server {
	s := &Server{
		options: options, fleet: f, files: map[string]render.File{},
		token: regexp.MustCompile(`[0-9A-Fa-f]{32}`),
	}
	for _, file := range files {
		s.files[file.Name] = file
		// cloud-init also asks for it, and waits if it is refused.
		s.files[path.Dir(file.Name)+"/vendor-data"] = render.File{}
	}
	return s
}

// Token returns the word in a machine's address that no other machine knows: an HMAC
// of its name, so that it stays the same when the server restarts.
func Token(secret string, f *fleet.Fleet, machine string) string {
	mac := hmac.New(sha256.New, []byte(secret))
	mac.Write([]byte("seed\x00" + f.Name + "\x00" + machine))
	return hex.EncodeToString(mac.Sum(nil)[:16])
}

// Path returns the path of a machine's data on the server, with a slash at its end.
func (s *Server) Path(machine string) string {
	if s.options.Token == "" {
		return "/" + machine + "/"
	}
	return "/" + machine + "/" + Token(s.options.Token, s.fleet, machine) + "/"
}

// ServeHTTP answers a request. A file that a client may not read looks like one that
// doesn't exist.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	access := Access{Client: r.RemoteAddr, Method: r.Method, Path: s.hideToken(r.URL.Path), Status: http.StatusNotFound}
	defer func() {
		if s.options.Log != nil {
			s.options.Log(access)
		}
	}()
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		access.Status = http.StatusMethodNotAllowed
		w.Header().Set("Allow", "GET, HEAD")
		http.Error(w, "only GET and HEAD", access.Status)
		return
	}
	if !s.isNamedRight(r.Host) {
		access.Status = http.StatusMisdirectedRequest
		http.Error(w, "use the address of this server, not a name", access.Status)
		return
	}
	machine, file, found := s.find(r.URL.Path)
	if !found || s.options.ByAddress && !s.isFrom(r.RemoteAddr, machine) {
		http.Error(w, "not found", access.Status)
		return
	}
	access.Machine, access.Status, access.Bytes = machine, http.StatusOK, len(file.Data)
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	if r.Method == http.MethodGet {
		_, _ = w.Write(file.Data) // a client that went away is no fault of ours
	}
}

func (s *Server) find(at string) (machine string, file render.File, found bool) {
	machine, name, _ := strings.Cut(strings.TrimPrefix(at, "/"), "/")
	if s.options.Token != "" {
		var token string
		token, name, _ = strings.Cut(name, "/")
		if !hmac.Equal([]byte(token), []byte(Token(s.options.Token, s.fleet, machine))) {
			return "", render.File{}, false
		}
	}
	file, found = s.files[machine+"/"+name]
	return machine, file, found && !strings.Contains(name, "/")
}

// isFrom reports whether a request comes from a fixed address of a machine.
func (s *Server) isFrom(client, machine string) bool {
	from, err := netip.ParseAddrPort(client)
	m := s.fleet.Machine(machine)
	if err != nil || m == nil {
		return false
	}
	return slices.ContainsFunc(m.NICs, func(nic *fleet.NIC) bool {
		return nic.Address.IsValid() &&
			nic.Address == from.Addr().Unmap()
	})
}

// isNamedRight reports whether a request names this server by an address. A page in a
// browser can give a name of its own the address of this server, and would then read
// data that is open to everyone who can connect.
func (s *Server) isNamedRight(host string) bool {
	if s.options.Token != "" || s.options.ByAddress || host == "" {
		return true
	}
	name := host
	if withoutPort, _, err := net.SplitHostPort(host); err == nil {
		name = withoutPort
	}
	_, err := netip.ParseAddr(strings.Trim(name, "[]"))
	return err == nil || name == "localhost"
}

// hideToken keeps tokens out of the log, wherever they are in a path.
func (s *Server) hideToken(at string) string {
	if s.options.Token == "" {
		return at
	}
	return s.token.ReplaceAllString(at, "…")
}
