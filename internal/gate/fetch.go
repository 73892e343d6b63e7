package gate

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"syscall"
	"time"

	"innergate.example/innergate/internal/core/finding"
)

// fetcher gets documents from addresses that an engineer named: https, ten
// seconds, bounded size, three redirects, and no private networks but those
// allowed, judged by the address actually connected to.
type fetcher struct {
	allow     []netip.Prefix
	allowHTTP bool
	client    *http.Client
}

var errNetwork = errors.New("network not allowed")

// private networks beyond those that netip knows: shared (RFC 6598), NAT64 (RFC
// 6052, RFC 8215), benchmarking, documentation and other special ones.
var special = func() (out []netip.Prefix) {
	for _, s := range []string{"0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "198.18.0.0/15", "240.0.0.0/4", "64:ff9b::/96", "64:ff9b:1::/48", "2002::/16", "fec0::/10"} {
		out = append(out, netip.MustParsePrefix(s))
	}
	return out
}()

func newFetcher(allow []netip.Prefix, allowHTTP bool) *fetcher {
	f := &fetcher{allow: allow, allowHTTP: allowHTTP}
	dialer := &net.Dialer{Timeout: 5 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		ap, err := netip.ParseAddrPort(address)
		if err != nil || !f.allowed(ap.Addr()) {
			return fmt.Errorf("%w: %s", errNetwork, address)
		}
		return nil
	}}
	f.client = &http.Client{Timeout: 10 * time.Second,
		Transport: &http.Transport{DialContext: dialer.DialContext, TLSHandshakeTimeout: 5 * time.Second, ResponseHeaderTimeout: 8 * time.Second,
			MaxResponseHeaderBytes: 64 << 10, DisableKeepAlives: true},
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if len(via) > 3 {
				return errors.New("more than three redirects")
			}
			return f.scheme(r.URL)
		}}
	return f
}

func (f *fetcher) allowed(a netip.Addr) bool {
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

func (f *fetcher) scheme(u *url.URL) error {
	if u.Scheme == "https" || u.Scheme == "http" && f.allowHTTP {
		return nil
	}
	return finding.New(finding.AddressRefused, finding.Fact("Address", u.String()), finding.Fact("Scheme", u.Scheme))
}

// get fetches a document of at most limit octets.
func (f *fetcher) get(ctx context.Context, address string, limit int64) ([]byte, error) {
	unreachable := func(cause string) error {
		return finding.New(finding.AddressUnreachable, finding.Fact("Address", address), finding.Fact("Cause", cause))
	}
	if !isAddress(address) {
		return nil, unreachable("not a whole http or https address")
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, unreachable(err.Error())
	}
	if err := f.scheme(req.URL); err != nil {
		return nil, err
	}
	req.Header.Set("Accept", "application/samlmetadata+xml, application/xml, text/xml, */*")
	res, err := f.client.Do(req)
	switch {
	case errors.Is(err, errNetwork):
		return nil, finding.New(finding.AddressRefused, finding.Fact("Address", address), finding.Fact("Cause", "it lies in a private or special network"))
	case finding.Of(err) != nil:
		return nil, finding.Of(err)
	case err != nil:
		var ue *url.Error
		if errors.As(err, &ue) {
			err = ue.Err
		}
		return nil, unreachable(err.Error())
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, unreachable("it answered " + res.Status)
	}
	document, err := io.ReadAll(io.LimitReader(res.Body, limit+1))
	if err != nil {
		return nil, unreachable(err.Error())
	}
	if int64(len(document)) > limit {
		return nil, finding.New(finding.XMLTooLarge, finding.Fact("Address", address), finding.Fact("Limit", fmt.Sprintf("%d octets", limit)))
	}
	return document, nil
}

// post sends a SOAP message, without following redirects, and gives the answer
// of at most limit octets.
func (f *fetcher) post(ctx context.Context, address string, message []byte, limit int64) ([]byte, error) {
	failed := func(cause string) error {
		return finding.New(finding.ArtifactUnresolved, finding.Fact("Address", address), finding.Fact("Cause", cause))
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(message))
	if err != nil {
		return nil, failed(err.Error())
	}
	if err := f.scheme(req.URL); err != nil {
		return nil, err
	}
	req.Header.Set("Content-Type", "text/xml; charset=utf-8")
	req.Header.Set("SOAPAction", `"http://www.oasis-open.org/committees/security"`)
	client := *f.client
	client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	res, err := client.Do(req)
	if err != nil {
		if errors.Is(err, errNetwork) {
			return nil, finding.New(finding.AddressRefused, finding.Fact("Address", address), finding.Fact("Cause", "it lies in a private or special network"))
		}
		return nil, failed(err.Error())
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, failed("it answered " + res.Status)
	}
	octets, err := io.ReadAll(io.LimitReader(res.Body, limit+1))
	if err != nil || int64(len(octets)) > limit {
		return nil, failed("the answer is cut off or too large")
	}
	return octets, nil
}

// isAddress reports whether s is a whole http or https address.
func isAddress(s string) bool {
	u, err := url.Parse(s)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != "" && u.User == nil
}
