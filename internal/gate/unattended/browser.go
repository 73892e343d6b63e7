package unattended

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"path"
	"strings"

	"golang.org/x/net/publicsuffix"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/rehearsal"
	"innergate.example/innergate/internal/gate/fetch"
)

// Bounds of a run that nobody attends.
const (
	mostPages  = 40      // requests, redirects among them
	mostOctets = 8 << 20 // of all answers
	pageOctets = 2 << 20 // of one
)

// browser is what goes through a sign-in in place of a person's: cookies by host, no scripts, and only to hosts that
// are on record. What is of the gate is answered within the process.
type browser struct {
	inside http.RoundTripper
	base   *url.URL
	hosts  map[string]*fetch.Fetcher // by which those beside the gate's own are asked
	jar    http.CookieJar
	pages  int
	octets int64
	last   *url.URL // whose page is shown
}

func newBrowser(inside http.RoundTripper, base *url.URL, hosts map[string]*fetch.Fetcher) *browser {
	jar, _ := cookiejar.New(&cookiejar.Options{PublicSuffixList: publicsuffix.List}) // never fails (net/http/cookiejar)
	return &browser{inside: inside, base: base, hosts: hosts, jar: jar}
}

// answer is what came of a move, after all redirects.
type answer struct {
	status int
	page   rehearsal.Page
}

// own reports whether an address is the gate's.
func (b *browser) own(u *url.URL) bool { return u.Scheme == b.base.Scheme && u.Host == b.base.Host }

// closed are addresses of the gate that no sign-in passes through: nobody leads the browser there.
var closed = []string{"/api/", "/console/", "/metrics/", "/healthz/", "/readyz/"}

// sees whether the browser may go to an address. The error is a finding.
func (b *browser) may(u *url.URL) error {
	switch {
	case u.Scheme != "https" && u.Scheme != "http" || u.User != nil:
		return rehearsal.Undriven(u, "this is no address of a page")
	case b.own(u):
		for _, c := range closed {
			if strings.HasPrefix(path.Clean("/"+u.Path)+"/", c) { // as the server reads it
				return rehearsal.Undriven(u, "no sign-in passes through this address")
			}
		}
		return nil
	case b.hosts[strings.ToLower(u.Host)] == nil:
		return rehearsal.Undriven(u, "the sign-in leads to "+finding.Clip(u.Host)+", a host that is on no record")
	}
	return nil
}

// goes makes a move, and follows where it leads. password is put where the move says. The error is a finding, or the
// gate's own.
func (b *browser) goes(ctx context.Context, m rehearsal.Move, password string) (answer, error) {
	for {
		res, octets, err := b.request(ctx, m, password)
		if err != nil {
			return answer{}, err
		}
		to := res.Header.Get("Location")
		if res.StatusCode/100 != 3 || to == "" {
			b.last = m.Address
			return answer{res.StatusCode, rehearsal.ReadPage(m.Address, octets)}, nil
		}
		next, err := m.Address.Parse(to)
		if err != nil {
			return answer{}, rehearsal.Undriven(m.Address, "it redirects to what is no address")
		}
		again := res.StatusCode == http.StatusTemporaryRedirect || res.StatusCode == http.StatusPermanentRedirect
		if again && m.Password != "" {
			return answer{}, rehearsal.Undriven(m.Address, "it would have the password sent on to another address")
		}
		b.last = m.Address
		if m.Address = next; !again {
			m = rehearsal.Goes(next)
		}
	}
}

// request makes one request (RFC 9110).
func (b *browser) request(ctx context.Context, m rehearsal.Move, password string) (*http.Response, []byte, error) {
	if err := b.may(m.Address); err != nil {
		return nil, nil, err
	}
	if b.pages++; b.pages > mostPages {
		return nil, nil, rehearsal.Undriven(m.Address, "the sign-in goes on and on: this is its 41st page")
	}
	fields, method, body := url.Values{}, http.MethodGet, io.Reader(nil)
	for name, values := range m.Fields {
		fields[name] = values
	}
	if m.Password != "" {
		fields.Set(m.Password, password)
	}
	to := *m.Address
	if to.Fragment = ""; m.Post {
		method, body = http.MethodPost, strings.NewReader(fields.Encode())
	} else if len(m.Fields) > 0 {
		to.RawQuery = fields.Encode() // HTML §4.10.21.3, mutate action URL
	}
	req, err := http.NewRequestWithContext(ctx, method, to.String(), body)
	if err != nil {
		return nil, nil, rehearsal.Undriven(m.Address, "this is no address of a page")
	}
	b.dress(req, m)
	send, most := b.outside, int64(pageOctets)
	if b.own(m.Address) {
		send = b.within
	}
	res, octets, err := send(req, min(most, mostOctets-b.octets))
	if err != nil {
		return nil, nil, err
	}
	if b.octets += int64(len(octets)); b.octets >= mostOctets {
		return nil, nil, rehearsal.Undriven(m.Address, "its pages have more than 8 MB together")
	}
	b.jar.SetCookies(m.Address, res.Cookies())
	return res, octets, nil
}

// dress gives a request what a browser sends along.
func (b *browser) dress(req *http.Request, m rehearsal.Move) {
	req.Header.Set("User-Agent", "Mozilla/5.0 (compatible; "+fetch.Agent+"; rehearsal)")
	req.Header.Set("Accept", "text/html,application/xhtml+xml,*/*;q=0.8")
	req.Header.Set("Accept-Language", "en")
	for _, c := range b.jar.Cookies(m.Address) {
		req.AddCookie(c)
	}
	if !m.Post {
		return
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	origin, site := "null", "cross-site"
	if b.last != nil {
		if origin = b.last.Scheme + "://" + b.last.Host; origin == m.Address.Scheme+"://"+m.Address.Host {
			site = "same-origin"
		}
	}
	req.Header.Set("Origin", origin)
	req.Header.Set("Sec-Fetch-Site", site)
}

func (b *browser) outside(req *http.Request, most int64) (*http.Response, []byte, error) {
	return b.hosts[strings.ToLower(req.URL.Host)].Browse(req, most)
}

// within has the gate answer in its own process.
func (b *browser) within(req *http.Request, most int64) (*http.Response, []byte, error) {
	if b.inside == nil {
		return nil, nil, errors.New("the gate serves no pages yet")
	}
	res, err := b.inside.RoundTrip(req)
	if err != nil {
		return nil, nil, err
	}
	defer res.Body.Close()
	octets, err := io.ReadAll(io.LimitReader(res.Body, most))
	return res, octets, err
}
