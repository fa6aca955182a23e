package seedserver

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/render"
)

func office() (*fleet.Fleet, []render.File) {
	f := &fleet.Fleet{Name: "tide-office", Machines: []*fleet.Machine{
		{Name: "almanac", NICs: []*fleet.NIC{{Name: "quay", Address: netip.MustParseAddr("10.44.7.20")}}},
		{Name: "store", NICs: []*fleet.NIC{{Name: "quay", Address: netip.MustParseAddr("10.44.7.21")}}},
	}}
	f.Complete()
	return f, []render.File{{Name: "almanac/user-data", Data: []byte("#cloud-config\n")},
		{Name: "almanac/meta-data", Data: []byte("x\n")}, {Name: "store/user-data", Data: []byte("secret")}}
}

func TestAnswers(t *testing.T) {
	f, files := office()
	const secret = "high water"
	almanac := "/almanac/" + Token(secret, f, "almanac") + "/"
	for name, c := range map[string]struct {
		options          Options
		method, at, from string
		status           int
		body             string
	}{
		"user data":            {Options{}, "GET", "/almanac/user-data", "127.0.0.1:1", 200, "#cloud-config\n"},
		"vendor data is empty": {Options{}, "GET", "/store/vendor-data", "127.0.0.1:1", 200, ""},
		"HEAD":                 {Options{}, "HEAD", "/almanac/user-data", "127.0.0.1:1", 200, ""},
		"no list":              {Options{}, "GET", "/", "127.0.0.1:1", 404, ""},
		"no list of a machine": {Options{}, "GET", "/almanac/", "127.0.0.1:1", 404, ""},
		"unknown machine":      {Options{}, "GET", "/stoer/user-data", "127.0.0.1:1", 404, ""},
		"way out":              {Options{}, "GET", "/almanac/../store/user-data", "127.0.0.1:1", 404, ""},
		"nothing is taken":     {Options{}, "POST", "/almanac/user-data", "127.0.0.1:1", 405, ""},
		"own address": {Options{ByAddress: true}, "GET", "/almanac/user-data", "10.44.7.20:1", 200,
			"#cloud-config\n"},
		"own address in IPv6 form": {Options{ByAddress: true}, "GET", "/almanac/user-data", "[::ffff:10.44.7.20]:1",
			200, "#cloud-config\n"},
		"another machine's address": {Options{ByAddress: true}, "GET", "/store/user-data", "10.44.7.20:1", 404, ""},
		"token": {Options{Token: secret}, "GET", almanac + "user-data", "127.0.0.1:1", 200,
			"#cloud-config\n"},
		"no token": {Options{Token: secret}, "GET", "/almanac/user-data", "127.0.0.1:1", 404, ""},
		"another machine's token": {Options{Token: secret}, "GET", strings.Replace(almanac, "almanac", "store", 1) +
			"user-data", "127.0.0.1:1", 404, ""},
	} {
		t.Run(name, func(t *testing.T) {
			var logged []Access
			c.options.Log = func(a Access) { logged = append(logged, a) }
			request := httptest.NewRequest(c.method, "http://127.0.0.1/", nil)
			request.URL.Path, request.RemoteAddr = c.at, c.from
			answer := httptest.NewRecorder()
			New(f, files, c.options).ServeHTTP(answer, request)
			if answer.Code != c.status || answer.Code == http.StatusOK && answer.Body.String() != c.body {
				t.Errorf("%d, %q", answer.Code, answer.Body)
			}
			if len(logged) != 1 || logged[0].Status != c.status ||
				strings.Contains(logged[0].Path, Token(secret, f, "almanac")) {
				t.Errorf("logged %+v", logged)
			}
		})
	}
}

// TestNames asks by names that a page in a browser could use, and by addresses.
func TestNames(t *testing.T) {
	f, files := office()
	for host, status := range map[string]int{
		"127.0.0.1:8000": 200, "127.0.0.1": 200, "[::1]:8000": 200, "localhost:8000": 200, "10.44.7.2": 200,
		"tides.example": 421, "tides.example:8000": 421, "127.0.0.1.tides.example": 421, "": 200,
	} {
		t.Run(host, func(t *testing.T) {
			request := httptest.NewRequest("GET", "http://127.0.0.1/almanac/user-data", nil)
			request.Host = host
			answer := httptest.NewRecorder()
			New(f, files, Options{}).ServeHTTP(answer, request)
			if answer.Code != status {
				t.Errorf("%d, want %d", answer.Code, status)
			}
		})
	}
}

// TestTokensAreNotLogged puts a token into every form of path.
func TestTokensAreNotLogged(t *testing.T) {
	f, files := office()
	token := Token("high water", f, "almanac")
	for _, at := range []string{
		"/almanac/" + token, "/almanac/" + token + "/", "/almanac/" + token + "/a/b", "//almanac/" + token +
			"/user-data",
		"/" + token + "/user-data", "/almanac/" + strings.ToUpper(token) + "/user-data", "/a/b/c/" + token,
	} {
		t.Run(at, func(t *testing.T) {
			logged := ""
			options := Options{Token: "high water", Log: func(a Access) { logged = a.Path }}
			request := httptest.NewRequest("GET", "http://127.0.0.1/", nil)
			request.URL.Path = at
			New(f, files, options).ServeHTTP(httptest.NewRecorder(), request)
			if logged == "" || strings.Contains(strings.ToLower(logged), token) {
				t.Errorf("logged %q", logged)
			}
		})
	}
}

func TestPath(t *testing.T) {
	f, files := office()
	if got := New(f, files, Options{}).Path("almanac"); got != "/almanac/" {
		t.Error(got)
	}
	one, other := New(f, files, Options{Token: "a"}).Path("almanac"), New(f, files, Options{Token: "b"}).Path("almanac")
	if one == other || len(one) != len("/almanac/")+33 || one != New(f, files, Options{Token: "a"}).Path("almanac") {
		t.Errorf("%s, %s", one, other)
	}
}
