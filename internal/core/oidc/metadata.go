package oidc

import (
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
)

// Metadata is what a client says of itself (RFC 7591 §2, OpenID Connect
// Registration §2): as handed over, with what was understood.
type Metadata struct {
	ClientID      ClientID
	Secret        string // of an application that moves and keeps it
	Kind          ClientKind
	Method        Method
	RedirectURIs  []RedirectURI
	PostLogout    []RedirectURI // post_logout_redirect_uris
	BackChannel   string        // backchannel_logout_uri
	Initiate      string        // initiate_login_uri
	JWKSAddress   string
	Keys          []Key
	Title         string
	Homepage      string
	Logo          string
	Policy        string
	Contacts      []string
	Scopes        []string
	Algorithm     string   // id_token_signed_response_alg
	Pairwise      bool     // subject_type
	PassedOver    []string // members that say nothing here
	Demands       []string // members that demand what is not done here
	MaxAge        *int     // default_max_age, in seconds
	AuthTime      bool     // require_auth_time
	Pushes        bool     // require_pushed_authorization_requests
	OfflineAccess bool
	private       error // a private key is in it
}

// addresses are members that hold an address a person or the gate goes to.
var addresses = []string{"client_uri", "logo_uri", "policy_uri", "jwks_uri", "backchannel_logout_uri",
	"initiate_login_uri"}

// known are members that are read.
var known = append([]string{"client_id", "client_secret", "redirect_uris", "post_logout_redirect_uris",
	"token_endpoint_auth_method", "grant_types", "response_types", "application_type", "client_name", "contacts", "scope",
	"jwks", "id_token_signed_response_alg", "subject_type", "default_max_age", "require_auth_time",
	"require_pushed_authorization_requests"}, addresses...)

// demanded are members by which a client restricts its tokens or requests, and which are not
// done here, with the values that demand nothing (RFC 9449 §5.2, RFC 8705 §3.4, RFC 9101
// §10.5, RFC 9396 §10, OpenID Connect Registration §2).
var demanded = map[string]any{"dpop_bound_access_tokens": false, "tls_client_certificate_bound_access_tokens": false,
	"require_signed_request_object": false, "request_object_signing_alg": "", "request_object_encryption_alg": "",
	"userinfo_signed_response_alg": "", "authorization_signed_response_alg": "",
	"introspection_signed_response_alg": "",
	"tls_client_auth_subject_dn":        "", "use_mtls_endpoint_aliases": false}

// faults are what is wrong with a document, by member.
type faults []finding.Evidence

func (f *faults) add(member, format string, args ...any) {
	*f = append(*f, finding.Fact(member, fmt.Sprintf(format, args...)))
}

// err is one finding with all of them, nil for none.
func (f faults) err() error {
	if len(f) == 0 {
		return nil
	}
	slices.SortStableFunc(f, func(a, b finding.Evidence) int { return strings.Compare(a.Label, b.Label) })
	return finding.New(finding.ClientMetadata, f...)
}

// ReadMetadata reads a client's metadata. An error is a finding that names every member
// that cannot be used, with why. The kind is told from what it wants: a client whose
// application_type is native is one, another public one runs in the browser; one without
// people is a service.
func ReadMetadata(octets []byte) (m Metadata, err error) {
	o, err := object(octets)
	if err != nil {
		return m, finding.New(finding.ClientMetadata, finding.Fact("Cause", err.Error()))
	}
	for name := range o {
		nothing, demands := demanded[name]
		switch {
		case demands:
			if o[name] != nothing && o[name] != nil {
				m.Demands = append(m.Demands, name)
			}
		case !slices.Contains(known, strings.SplitN(name, "#", 2)[0]):
			m.PassedOver = append(m.PassedOver, name)
		}
	}
	slices.Sort(m.PassedOver)
	slices.Sort(m.Demands)
	var f faults
	for name, to := range map[string]*string{"client_id": (*string)(&m.ClientID), "client_secret": &m.Secret,
		"client_name": &m.Title, "client_uri": &m.Homepage, "logo_uri": &m.Logo, "policy_uri": &m.Policy,
		"jwks_uri": &m.JWKSAddress, "backchannel_logout_uri": &m.BackChannel, "initiate_login_uri": &m.Initiate,
		"id_token_signed_response_alg": &m.Algorithm} {
		*to = f.text(o, name)
	}
	m.Contacts = f.texts(o, "contacts")
	for name, to := range map[string]*[]RedirectURI{"redirect_uris": &m.RedirectURIs,
		"post_logout_redirect_uris": &m.PostLogout} {
		for _, address := range f.texts(o, name) {
			*to = append(*to, RedirectURI(address))
		}
	}
	for name, to := range map[string]*bool{"require_auth_time": &m.AuthTime,
		"require_pushed_authorization_requests": &m.Pushes} {
		switch v := o[name].(type) {
		case nil:
		case bool:
			*to = v
		default:
			f.add(name, "is neither true nor false")
		}
	}
	m.readAge(o, &f)
	m.Scopes = strings.Fields(f.text(o, "scope"))
	m.OfflineAccess = slices.Contains(m.Scopes, "offline_access")
	for _, step := range []func(map[string]any, *faults){m.readKind, m.readKeys, m.readAddresses, m.readAnswers} {
		step(o, &f)
	}
	if m.private != nil { // the document is to be thrown away, whatever else is wrong
		return m, m.private
	}
	return m, f.err()
}

// text is a member that is a text, "" for none.
func (f *faults) text(o map[string]any, name string) string {
	switch v := o[name].(type) {
	case nil:
	case string:
		return strings.TrimSpace(v)
	default:
		f.add(name, "is no text")
	}
	return ""
}

// texts is a member that is a list of texts.
func (f *faults) texts(o map[string]any, name string) []string {
	list, ok := texts(o, name)
	if !ok {
		f.add(name, "is no list of texts")
	}
	return list
}

// mostAge is the longest default_max_age, in seconds: ten years.
const mostAge = 10 * 366 * 24 * 3600

func (m *Metadata) readAge(o map[string]any, f *faults) {
	v, there := o["default_max_age"]
	if !there || v == nil {
		return
	}
	n, _ := v.(json.Number)
	age, err := strconv.Atoi(n.String())
	if err != nil || age < 0 || age > mostAge {
		f.add("default_max_age", "is no whole number of seconds from 0 to %d", mostAge)
		return
	}
	m.MaxAge = &age
}

// readKind tells the kind and the method. The defaults are those of RFC 7591 §2 and of
// OpenID Connect Registration §2.
func (m *Metadata) readKind(o map[string]any, f *faults) {
	grants := f.texts(o, "grant_types")
	for _, g := range grants {
		if g == "implicit" || g == "password" {
			f.add("grant_types", "%s is not offered; use authorization_code", g)
		}
	}
	responses, ok := texts(o, "response_types")
	if !ok || slices.ContainsFunc(responses, func(r string) bool { return r != "code" }) {
		f.add("response_types", "%s is not offered; use code", strings.Join(responses, ", "))
	}
	kind := f.text(o, "application_type")
	if kind != "" && kind != "web" && kind != "native" {
		f.add("application_type", "%q is neither web nor native", kind)
	}
	m.Method = Method(f.text(o, "token_endpoint_auth_method"))
	native := kind == "native" || kind == "" && slices.ContainsFunc(m.RedirectURIs, ownScheme)
	switch {
	case m.Method == "" && kind == "native":
		m.Method = NoMethod
	case m.Method == "":
		m.Method = SecretBasic
	case !slices.Contains(Methods, m.Method):
		m.unknownMethod(f)
		return
	}
	switch people := len(grants) == 0 || slices.Contains(grants, "authorization_code"); {
	case !people && slices.Contains(grants, "client_credentials"):
		m.Kind = Service
	case m.Method == NoMethod && !native:
		m.Kind = Browser
	case m.Method == NoMethod:
		m.Kind = Native
	case kind == "native":
		m.Kind = Native
		f.add("token_endpoint_auth_method", "%s cannot be: a native application can keep nothing secret; use none",
			m.Method)
	default:
		m.Kind = Web
	}
	if m.Kind == Service && m.Method == NoMethod {
		f.add("token_endpoint_auth_method", "none cannot be: a service proves who it is by nothing else")
	}
}

func (m *Metadata) unknownMethod(f *faults) {
	words := make([]string, len(Methods))
	for i, w := range Methods {
		words[i] = string(w)
	}
	if near := nearword.Of(string(m.Method), words); near != "" {
		f.add("token_endpoint_auth_method", "%s is not offered; did you mean %s?", m.Method, near)
		return
	}
	f.add("token_endpoint_auth_method", "%s is not offered; there are %s", m.Method, strings.Join(words, ", "))
}

func ownScheme(address RedirectURI) bool {
	u, err := url.Parse(string(address))
	return err == nil && u.Scheme != "http" && u.Scheme != "https"
}

// readKeys reads keys that stand in the document; an address of keys is for later.
func (m *Metadata) readKeys(o map[string]any, f *faults) {
	set, there := o["jwks"]
	switch {
	case there && m.JWKSAddress != "":
		f.add("jwks", "stands beside jwks_uri; only one of them may be (RFC 7591 §2)")
	case there:
		coded, err := json.Marshal(set)
		if err == nil {
			m.Keys, err = ReadKeys(coded)
		}
		if finding.Is(err, finding.MetadataPrivateKey) {
			m.private = err
		} else if err != nil {
			f.add("jwks", "%s", cause(err))
		}
	case m.Method == SignedJWT && m.JWKSAddress == "":
		f.add("jwks", "is missing, and so is jwks_uri; private_key_jwt needs one of them")
	}
}

// cause is what an error rests on, in a line.
func cause(err error) string {
	if found := finding.Of(err); found != nil && len(found.Evidence) > 0 {
		return found.Title + ": " + found.Evidence[len(found.Evidence)-1].Found
	}
	return err.Error()
}

// readAddresses holds all addresses against what can be registered.
func (m *Metadata) readAddresses(o map[string]any, f *faults) {
	list, _ := o["redirect_uris"].([]any)
	if m.Kind != Service && m.Kind != "" && len(list) == 0 && (o["redirect_uris"] == nil || list != nil) {
		f.add("redirect_uris", "is missing or empty")
	}
	kind := m.Kind
	if kind == "" { // it is not known, for another fault
		kind = Native
	}
	for name, list := range map[string][]RedirectURI{"redirect_uris": m.RedirectURIs,
		"post_logout_redirect_uris": m.PostLogout} {
		for _, address := range list {
			if _, err := ParseRedirectURI(kind, string(address)); err != nil {
				f.add(name, "%s", err)
			}
		}
	}
	for _, name := range addresses {
		address := text(o, name)
		u, err := url.Parse(address)
		if address != "" && (err != nil || u.Hostname() == "" || u.Scheme != "https" && !Loopback(u.Hostname()) ||
			u.User != nil || strings.Contains(address, "#") || strings.ContainsFunc(address, odd)) {
			f.add(name, "%q is no address that is taken; give one that begins with https://", address)
		}
	}
}

// readAnswers reads how the client wants its tokens.
func (m *Metadata) readAnswers(o map[string]any, f *faults) {
	if m.Algorithm != "" && !slices.Contains([]string{"RS256", "ES256", "EdDSA"}, m.Algorithm) {
		f.add("id_token_signed_response_alg", "%s is not offered; use RS256, ES256 or EdDSA", m.Algorithm)
	}
	for name := range o {
		if strings.HasSuffix(name, "_encrypted_response_alg") || strings.HasSuffix(name, "_encrypted_response_enc") {
			f.add(name, "encrypted tokens are not offered; leave it out")
		}
	}
	switch subject := f.text(o, "subject_type"); subject {
	case "", "public":
	case "pairwise":
		m.Pairwise = true
	default:
		f.add("subject_type", "%q is neither public nor pairwise", subject)
	}
}
