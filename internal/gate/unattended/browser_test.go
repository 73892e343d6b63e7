package unattended

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/rehearsal"
	"innergate.example/innergate/internal/gate/fetch"
)

// inside is a gate that says what it was asked.
type inside struct{}

func (inside) RoundTrip(r *http.Request) (*http.Response, error) {
	w := httptest.NewRecorder()
	fmt.Fprintf(w, "<title>gate %s %s %s %s</title>", r.URL.Path, r.Header.Get("Origin"), r.Header.Get("Sec-Fetch-Site"),
		r.Header.Get("Cookie"))
	return w.Result(), nil
}

// The browser that nobody sits at goes where the records say and nowhere else, and ends.
func TestTheBrowserStaysInItsBounds(t *testing.T) {
	mux := http.NewServeMux()
	to := func(status int, location string) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) {
			http.SetCookie(w, &http.Cookie{Name: "here", Value: "1", Path: "/"})
			w.Header().Set("Location", location)
			w.WriteHeader(status)
		}
	}
	mux.HandleFunc("/loop", to(303, "/loop"))
	mux.HandleFunc("/elsewhere", to(303, "https://evil.example/"))
	mux.HandleFunc("/api", to(303, "http://gate.example/api/v1/owners"))
	mux.HandleFunc("/metrics", to(303, "http://gate.example/metrics"))
	mux.HandleFunc("/odd", to(303, "http://gate.example/x/..//./metrics"))
	mux.HandleFunc("/again", to(307, "/taken"))
	mux.HandleFunc("/file", to(303, "file:///etc/passwd"))
	mux.HandleFunc("/acs", to(307, "http://gate.example/acs"))
	mux.HandleFunc("/cookie", to(303, "/shows"))
	mux.HandleFunc("/shows", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "<title>%s</title>", r.Header.Get("Cookie"))
	})
	mux.HandleFunc("/large", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = w.Write([]byte(strings.Repeat("<p>more", 1<<20)))
	})
	mux.HandleFunc("/large-again", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Refresh", "0")
		_, _ = w.Write([]byte(strings.Repeat("a", 3<<20)))
	})
	srv := httptest.NewServer(mux)
	defer srv.Close()
	base, _ := url.Parse("http://gate.example")
	at, _ := url.Parse(srv.URL)
	out := fetch.New([]netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, true)
	shut := fetch.New(nil, true)
	for what, c := range map[string]struct {
		path, password string
		by             *fetch.Fetcher
		want           string
	}{
		"a loop":                      {"/loop", "", out, "goes on and on"},
		"a host on no record":         {"/elsewhere", "", out, "evil.example, a host that is on no record"},
		"the gate's API":              {"/api", "", out, "no sign-in passes through"},
		"the gate's figures":          {"/metrics", "", out, "no sign-in passes through"},
		"them in other words":         {"/odd", "", out, "no sign-in passes through"},
		"a password sent on":          {"/again", "pw", out, "have the password sent on"},
		"no address of a page":        {"/file", "", out, "no address of a page"},
		"cookies by host":             {"/cookie", "", out, "title here=1"},
		"onward with what was posted": {"/acs", "", out, "title gate /acs " + srv.URL + " cross-site "},
		"large":                       {"/large", "", out, "title "},
		"a private network":           {"/cookie", "", shut, "private or special network"},
	} {
		b := newBrowser(inside{}, base, map[string]*fetch.Fetcher{at.Host: c.by})
		m := rehearsal.Move{Post: true, Address: at.JoinPath(c.path), Fields: url.Values{"a": {"b"}}}
		if c.password != "" {
			m.Password = "p"
		}
		b.last = at
		got, err := b.goes(context.Background(), m, c.password)
		if err != nil {
			require.Contains(t, err.Error(), c.want, what)
			continue
		}
		require.Equal(t, c.want, "title "+got.page.Title+map[bool]string{true: " "}[strings.HasSuffix(c.want, "site ")], what)
	}
	b := newBrowser(inside{}, base, map[string]*fetch.Fetcher{at.Host: out})
	var err error
	for range 5 {
		if _, err = b.goes(context.Background(), rehearsal.Goes(at.JoinPath("/large-again")), ""); err != nil {
			break
		}
	}
	require.ErrorContains(t, err, "more than 8 MB together")
}
