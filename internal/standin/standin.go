// Package standin holds small simulated providers and applications for the demo
// and for tests. They are programs of their own that speak the protocol over
// HTTP; they know of the gate only what its metadata says. Faults can be
// switched on by name.
package standin

import (
	"bytes"
	"context"
	"crypto/rand"
	"embed"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"html/template"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/google/renameio/v2"

	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
)

//go:embed pages
var pageFiles embed.FS

var pages = template.Must(template.ParseFS(pageFiles, "pages/*.html"))

// Person is somebody with an account at a stand-in provider.
type Person struct {
	Username string   `yaml:"username"`
	Password string   `yaml:"password"`
	Given    string   `yaml:"given"`
	Family   string   `yaml:"family"`
	Job      string   `yaml:"job"`
	Groups   []string `yaml:"groups"`
	// Mails are their addresses, if these are others than the user name at the domain;
	// an empty list is none.
	Mails        []string `yaml:"mails"`
	Entitlements []string `yaml:"entitlements"`
	Tenant       string   `yaml:"tenant"` // at a provider of several, "" for the first
}

// Mail is the person's first address, "" if they have none.
func (p Person) Mail() string {
	return strings.Join(p.addresses(mailDomain)[:min(1, len(p.addresses(mailDomain)))], "")
}

// addresses are all of them, at a provider whose own end in a domain.
func (p Person) addresses(domain string) []string {
	if p.Mails != nil {
		return p.Mails
	}
	return []string{p.Username + domain}
}

const mailDomain = "@wrenmoor.example"

// called reports whether a name is the person's, or none.
func (p Person) called(name string) bool { return name == "" || name == p.Username || name == p.Mail() }

func newID() string {
	b := make([]byte, 16)
	_, _ = rand.Read(b) // never fails (crypto/rand)
	return "_" + hex.EncodeToString(b)
}

func newHandle() (h [20]byte) {
	_, _ = rand.Read(h[:])
	return h
}

// LoadPair reads a key pair from a file, or makes it there the first time. An
// empty path makes one for this run only.
func LoadPair(path, name string) (*keys.Pair, error) {
	if path != "" {
		text, err := os.ReadFile(path)
		if err == nil {
			return keys.Unmarshal(text)
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	pair, err := keys.Generate(name, time.Now(), rand.Reader)
	if err != nil || path == "" {
		return pair, err
	}
	text, err := pair.Marshal()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	return pair, renameio.WriteFile(path, text, 0o600)
}

// stranger is a pair that no counterpart knows, for what somebody else signed: one in a run, made when it is first
// needed.
var stranger = sync.OnceValues(func() (*keys.Pair, error) { return LoadPair("", "a stranger") })

// fetchMetadata gets the gate's metadata from an address or a file, for every
// use anew: stand-ins start before the gate knows them.
func fetchMetadata(ctx context.Context, address string) (*saml.Metadata, error) {
	if !strings.HasPrefix(address, "http://") && !strings.HasPrefix(address, "https://") {
		octets, err := os.ReadFile(address)
		if err != nil {
			return nil, err
		}
		return saml.ReadMetadata(octets, time.Now())
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s answered %s; has this stand-in been added to the gate?", address, res.Status)
	}
	octets, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if err != nil {
		return nil, err
	}
	return saml.ReadMetadata(octets, time.Now())
}

type page struct {
	Kind, Title, Name string
	Error, Text       string
	Pending, Target   string
	Username          string
	Faults            []Fault
	Fault             string
	People            []Person
	Person            *Person
	Sessions          bool
	Location, Nonce   string
	Fields            []saml.FormField
	Subject           *saml.NameID
	Attributes        []saml.Attribute
	RelayState, How   string
	Names             Naming
	Namings           []Naming
	Matched           *Matched
	Accounts          *Accounts
	OnlyOwn           bool
	Metadata, Gate    string
	Entities, Edition int
	In                *shownClient
	Client            string // client ID
	Issuer            string
	Plain             bool // OAuth 2.0 without ID tokens
	Letters           []Letter
	Heard             []HeardChange
}

func show(w http.ResponseWriter, status int, name string, p page) {
	b := make([]byte, 12)
	_, _ = rand.Read(b)
	p.Nonce = base64.RawURLEncoding.EncodeToString(b)
	var out bytes.Buffer
	if err := pages.ExecuteTemplate(&out, name, p); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Cache-Control", "no-store")
	h.Set("Content-Security-Policy", "default-src 'none'; connect-src 'self'; img-src data:; style-src 'nonce-"+p.Nonce+
		"'; script-src 'nonce-"+p.Nonce+"'; base-uri 'none'; frame-ancestors 'none'")
	w.WriteHeader(status)
	_, _ = w.Write(out.Bytes())
}

// inbound takes a SAML message out of a request.
func inbound(r *http.Request, kind string) (saml.Inbound, error) {
	if r.Method == http.MethodPost {
		return saml.FromPOST(r.PostFormValue(kind), r.PostFormValue("RelayState"))
	}
	return saml.FromRedirect(r.URL.RawQuery, kind)
}

// cookie is a session cookie with a name of its own, because stand-ins on one
// host share their cookies.
func cookie(name, value string) *http.Cookie {
	c := &http.Cookie{Name: "standin-" + name, Value: value, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode}
	if value == "" {
		c.MaxAge = -1
	}
	return c
}

func sendMetadata(w http.ResponseWriter, octets []byte) {
	w.Header().Set("Content-Type", "application/samlmetadata+xml")
	_, _ = w.Write(octets)
}

func limitBody(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, 4<<20)
		next.ServeHTTP(w, r)
	})
}
