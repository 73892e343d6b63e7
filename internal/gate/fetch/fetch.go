// Package fetch is the way out to the network: for documents, and for calls of
// crossings.
package fetch

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"sync"
	"syscall"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// Fetcher gets documents from addresses that an engineer named: https, ten
// seconds, bounded size, three redirects, and no private networks but those
// allowed, judged by the address actually connected to.
type Fetcher struct {
	allow     []netip.Prefix
	allowHTTP bool
	client    *http.Client
	shared    *shared
}

// shared is what all fetchers have in common that differ in whom they trust.
type shared struct {
	hosts   sync.Map // host → places for calls
	clients sync.Map // certificates of authorities, as text → *http.Client
}

// Agent is what the gate calls itself in requests (RFC 9110 §10.1.5).
const Agent = "InnerGate"

var errNetwork = errors.New("network not allowed")

// private networks beyond those that netip knows: shared (RFC 6598), NAT64 (RFC
// 6052, RFC 8215), benchmarking, documentation and other special ones.
var special = func() (out []netip.Prefix) {
	for _, s := range []string{"0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "198.18.0.0/15", "240.0.0.0/4",
		"64:ff9b::/96", "64:ff9b:1::/48", "2002::/16", "fec0::/10"} {
		out = append(out, netip.MustParsePrefix(s))
	}
	return out
}()

// New makes a fetcher that may reach private networks only if they are allowed.
func New(allow []netip.Prefix, allowHTTP bool) *Fetcher {
	f := &Fetcher{allow: allow, allowHTTP: allowHTTP, shared: &shared{}}
	dialer := &net.Dialer{Timeout: 5 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		ap, err := netip.ParseAddrPort(address)
		if err != nil || !f.allowed(ap.Addr()) {
			return fmt.Errorf("%w: %s", errNetwork, address)
		}
		return nil
	}}
	f.client = &http.Client{
		Transport: &http.Transport{DialContext: dialer.DialContext, TLSHandshakeTimeout: 5 * time.Second,
			ResponseHeaderTimeout:  8 * time.Second,
			MaxResponseHeaderBytes: 64 << 10, MaxIdleConnsPerHost: 8, MaxIdleConns: 200, IdleConnTimeout: 20 * time.Second},
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if len(via) > 3 {
				return errors.New("more than three redirects")
			}
			return f.scheme(r.URL)
		}}
	return f
}

// Trusting gives a fetcher that also takes addresses resting on the authorities of
// a record.
func (f *Fetcher) Trusting(k federation.Keeping) *Fetcher {
	if k.AddressCA == "" {
		return f
	}
	more, err := k.Authorities()
	if err != nil || len(more) == 0 {
		return f // what cannot be read was refused when it was set
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	for _, c := range more {
		pool.AddCert(c)
	}
	g := *f
	if known, ok := f.shared.clients.Load(k.AddressCA); ok {
		g.client = known.(*http.Client)
		return &g
	}
	transport := f.client.Transport.(*http.Transport).Clone()
	transport.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	g.client = &http.Client{Transport: transport, CheckRedirect: f.client.CheckRedirect}
	known, _ := f.shared.clients.LoadOrStore(k.AddressCA, g.client)
	g.client = known.(*http.Client)
	return &g
}

func (f *Fetcher) allowed(a netip.Addr) bool {
	a = a.Unmap()
	for _, p := range f.allow {
		if p.Contains(a) {
			return true
		}
	}
	if !a.IsGlobalUnicast() || a.IsPrivate() || a.IsLoopback() || a.IsLinkLocalUnicast() {
		return false
	}
	for _, p := range special {
		if p.Contains(a) {
			return false
		}
	}
	return true
}

func (f *Fetcher) scheme(u *url.URL) error {
	if u.Scheme == "https" || u.Scheme == "http" && f.allowHTTP {
		return nil
	}
	return finding.New(finding.AddressRefused, finding.Fact("Address", u.String()), finding.Fact("Scheme", u.Scheme))
}

// Conditions are those of a conditional request (RFC 9110 §13.1).
type Conditions struct {
	ETag     string `json:"etag,omitempty"`
	Modified string `json:"modified,omitempty"` // Last-Modified as the server wrote it
}

// Fetched is what an address gave.
type Fetched struct {
	Octets    []byte        // of get
	Body      io.ReadCloser // of open, nil if unchanged
	Length    int64         // announced, -1 if not
	Unchanged bool          // the conditions held: 304
	Conditions
	date time.Time // of the server's clock, zero if it tells none
}

// plainly is an error of the network in words.
func plainly(err error) string {
	var (
		timeout net.Error
		dns     *net.DNSError
		trust   *tls.CertificateVerificationError
		call    *net.OpError
	)
	switch {
	case errors.As(err, &dns):
		return "there is no host of the name " + dns.Name
	case errors.As(err, &trust):
		return "its certificate is not trusted: " + trust.Err.Error()
	case errors.Is(err, syscall.ECONNREFUSED):
		return "connection refused: nothing listens there"
	case errors.As(err, &timeout) && timeout.Timeout(), errors.Is(err, context.DeadlineExceeded):
		return "no answer within ten seconds"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.ECONNRESET):
		return "the connection was closed before the answer was whole"
	case errors.As(err, &call):
		return call.Err.Error()
	}
	var at *url.Error
	if errors.As(err, &at) {
		err = at.Err
	}
	return err.Error()
}

// Get fetches a document of at most limit octets, within ten seconds.
func (f *Fetcher) Get(ctx context.Context, address string, c Conditions, limit int64) (Fetched, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	got, err := f.Open(ctx, address, c)
	if err != nil || got.Unchanged {
		return got, err
	}
	defer got.Body.Close()
	if got.Octets, err = io.ReadAll(io.LimitReader(got.Body, limit+1)); err != nil {
		return got, Unreachable(address, plainly(err))
	}
	if int64(len(got.Octets)) > limit {
		return got, finding.New(finding.MetadataTooLarge, finding.Fact("Address", address),
			finding.Fact("At most", fmt.Sprintf("%.1f MB", float64(limit)/1e6)))
	}
	return got, nil
}

// Unreachable is the finding that an address gives nothing.
func Unreachable(address, cause string) *finding.Finding {
	return finding.New(finding.AddressUnreachable, finding.Fact("Address", address), finding.Fact("Cause", cause))
}

// Open begins to fetch a document; the caller closes its body.
func (f *Fetcher) Open(ctx context.Context, address string, c Conditions) (Fetched, error) {
	res, err := f.send(ctx, http.MethodGet, address, c)
	if err != nil {
		return Fetched{}, err
	}
	got := Fetched{Body: res.Body, Length: res.ContentLength, Conditions: Conditions{res.Header.Get("ETag"),
		res.Header.Get("Last-Modified")}}
	got.date, _ = http.ParseTime(res.Header.Get("Date")) // zero if absent
	if res.StatusCode == http.StatusOK {
		return got, nil
	}
	_ = res.Body.Close() // nothing is wanted of it
	got.Body = nil
	if res.StatusCode == http.StatusNotModified && c != (Conditions{}) {
		got.Unchanged, got.Conditions = true, c
		return got, nil
	}
	return Fetched{}, Unreachable(address, "it answered "+res.Status)
}

// Probe sees whether an address answers at all, whatever it says, and what its
// server's clock shows.
func (f *Fetcher) Probe(ctx context.Context, address string) (date time.Time, err error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	res, err := f.send(ctx, http.MethodHead, address, Conditions{})
	if err != nil {
		return date, err
	}
	date, _ = http.ParseTime(res.Header.Get("Date"))
	return date, res.Body.Close()
}

func (f *Fetcher) send(ctx context.Context, method, address string, c Conditions) (*http.Response, error) {
	if !federation.IsAddress(address) {
		return nil, Unreachable(address, "not a whole http or https address")
	}
	req, err := http.NewRequestWithContext(ctx, method, address, nil)
	if err != nil {
		return nil, Unreachable(address, plainly(err))
	}
	if err := f.scheme(req.URL); err != nil {
		return nil, err
	}
	req.Header.Set("User-Agent", Agent)
	req.Header.Set("Accept", "application/xml, text/xml, application/json, */*")
	if c.ETag != "" {
		req.Header.Set("If-None-Match", c.ETag)
	}
	if c.Modified != "" {
		req.Header.Set("If-Modified-Since", c.Modified)
	}
	res, err := f.client.Do(req)
	switch {
	case errors.Is(err, errNetwork):
		return nil, finding.New(finding.AddressRefused, finding.Fact("Address", address),
			finding.Fact("Cause", "it lies in a private or special network"))
	case finding.Of(err) != nil:
		return nil, finding.Of(err)
	case err != nil:
		return nil, Unreachable(address, plainly(err))
	}
	return res, nil
}

// looked is how much of an answer is looked at, in octets.
const looked = 64 << 10

// Look asks an address as a browser would, and follows no redirect.
func (f *Fetcher) Look(ctx context.Context, address string) (federation.Reply, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	g := *f
	client := *f.client
	client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	g.client = &client
	res, err := g.send(ctx, http.MethodGet, address, Conditions{})
	if err != nil {
		return federation.Reply{}, err
	}
	defer res.Body.Close()
	octets, err := io.ReadAll(io.LimitReader(res.Body, looked))
	if err != nil {
		return federation.Reply{}, Unreachable(address, plainly(err))
	}
	return federation.Reply{Status: res.StatusCode, Location: res.Header.Get("Location"), Octets: octets}, nil
}

// Browse sends a request as a browser does, follows no redirect, and reads at most so many octets of the answer.
func (f *Fetcher) Browse(req *http.Request, most int64) (*http.Response, []byte, error) {
	address := *req.URL
	address.RawQuery, address.User = "", nil // what is passing stays out of what is told
	if err := f.scheme(&address); err != nil {
		return nil, nil, err
	}
	client := *f.client
	client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	res, err := client.Do(req)
	switch {
	case errors.Is(err, errNetwork):
		return nil, nil, finding.New(finding.AddressRefused, finding.Fact("Address", address.String()),
			finding.Fact("Cause", "it lies in a private or special network"))
	case err != nil:
		return nil, nil, unanswered(address.String(), plainly(err))
	}
	defer res.Body.Close()
	octets, err := io.ReadAll(io.LimitReader(res.Body, most))
	if err != nil {
		return nil, nil, unanswered(address.String(), plainly(err))
	}
	return res, octets, nil
}

// unanswered is the finding that an address of the other side gives no page.
func unanswered(address, cause string) *finding.Finding {
	return finding.New(finding.EndpointUnreachable, finding.Fact("Address", address), finding.Fact("Cause", cause))
}

// Plain reports whether addresses of http may be fetched, too.
func (f *Fetcher) Plain() bool { return f.allowHTTP }

// Reply is what a call brought in.
type Reply struct {
	Status int
	Type   string // Content-Type
	Octets []byte
}

// atOnce is how many calls to one host may be under way: a slow counterpart holds up
// its own people and nobody else's.
const atOnce = 64

// places are those of one host.
func (f *Fetcher) places(host string) chan struct{} {
	p, _ := f.shared.hosts.LoadOrStore(host, make(chan struct{}, atOnce))
	return p.(chan struct{})
}

// Call makes a call, without following redirects, and gives the answer. Secrets that
// went out are taken out of what came back.
func (f *Fetcher) Call(ctx context.Context, c *crossing.Call, o crossing.CallOctets) (Reply, error) {
	failed := func(cause string) error {
		code := c.Unreached
		if code == "" {
			code = finding.AddressUnreachable
		}
		return finding.New(code, finding.Fact("Address", c.Address), finding.Fact("Cause", cause))
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	method, body := http.MethodPost, io.Reader(bytes.NewReader(o.Body))
	if c.Get {
		method, body = http.MethodGet, nil
	}
	req, err := http.NewRequestWithContext(ctx, method, c.Address, body)
	if err != nil {
		return Reply{}, failed(plainly(err))
	}
	if err := f.scheme(req.URL); err != nil {
		return Reply{}, err
	}
	place := f.places(req.URL.Host)
	select {
	case place <- struct{}{}:
		defer func() { <-place }()
	default:
		return Reply{}, failed(fmt.Sprintf("%d calls to its host are waiting for an answer already", atOnce))
	}
	req.Header.Set("User-Agent", Agent)
	for name, value := range o.Header {
		req.Header.Set(name, value)
	}
	client := *f.client
	client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	res, err := client.Do(req)
	if err != nil {
		if errors.Is(err, errNetwork) {
			return Reply{}, finding.New(finding.AddressRefused, finding.Fact("Address", c.Address),
				finding.Fact("Cause", "it lies in a private or special network"))
		}
		return Reply{}, failed(plainly(err))
	}
	defer res.Body.Close()
	if res.StatusCode/100 == 3 {
		return Reply{}, failed("it redirects, which is not followed with a secret")
	}
	if res.StatusCode/100 != 2 && !c.AnyStatus {
		return Reply{}, failed("it answered " + res.Status)
	}
	octets, err := io.ReadAll(io.LimitReader(res.Body, c.Limit+1))
	if err != nil || int64(len(octets)) > c.Limit {
		return Reply{}, failed("the answer is cut off or too large")
	}
	return Reply{res.StatusCode, res.Header.Get("Content-Type"), without(octets, o.Secrets)}, nil
}

// without takes secrets out of an answer that echoes them, as they are or in form
// coding.
func without(octets []byte, secrets []string) []byte {
	for _, s := range secrets {
		for _, form := range []string{s, url.QueryEscape(s)} {
			if len(form) >= shortestSecret && bytes.Contains(octets, []byte(form)) {
				octets = bytes.ReplaceAll(octets, []byte(form), []byte("(a secret)"))
			}
		}
	}
	return octets
}

// shortestSecret is what is looked for, in octets: less would be found by chance.
const shortestSecret = 6
