package oidc

import (
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
)

// Code is what a client is told (RFC 6749 §4.1.2.1 and §5.2, OpenID Connect Core
// §3.1.2.6, RFC 8707 §2).
type Code string

// Codes of refusals.
const (
	InvalidRequest       Code = "invalid_request"
	InvalidClient        Code = "invalid_client"
	InvalidGrant         Code = "invalid_grant"
	InvalidScope         Code = "invalid_scope"
	InvalidTarget        Code = "invalid_target"
	UnsupportedResponse  Code = "unsupported_response_type"
	RequestNotSupported  Code = "request_not_supported"
	RequestURIsUnwelcome Code = "request_uri_not_supported"
	UnauthorizedClient   Code = "unauthorized_client"
	UnsupportedGrant     Code = "unsupported_grant_type"
	InvalidToken         Code = "invalid_token"      // RFC 6750 §3.1
	InsufficientScope    Code = "insufficient_scope" // the same
	Busy                 Code = "temporarily_unavailable"
)

// Refuse refuses with a code for the other side, and a finding for ours.
func Refuse(code Code, f *finding.Finding) error { return &Refusal{Code: code, Finding: f} }

// Wrong refuses a request that is not as the standards have it.
func Wrong(code Code, e ...finding.Evidence) error {
	return Refuse(code, finding.New(finding.OAuthRequest, e...))
}

// Refusal is why a request is refused, in the words of both sides.
type Refusal struct {
	Code    Code
	Finding *finding.Finding
	Back    bool          // the client may hear of it at its redirect URI
	Wait    time.Duration // until it makes sense to come again, 0 if that is not known
	// Reference is that of the trace in which it stands, "" if it is not recorded.
	Reference string
}

// Error tells the finding.
func (r *Refusal) Error() string { return r.Finding.Error() }

// Unwrap gives the finding.
func (r *Refusal) Unwrap() error { return r.Finding }

// RefusalOf gives the refusal in an error, nil if there is none.
func RefusalOf(err error) *Refusal {
	var r *Refusal
	errors.As(err, &r)
	return r
}

// Request is an authorization request (OpenID Connect Core §3.1.2.1).
type Request struct {
	ClientID     ClientID
	RedirectURI  RedirectURI
	ResponseType string
	ResponseMode string // "query" if it says nothing
	State        string // as given, and given back so
	Nonce        string
	Scopes       []string
	Challenge    string   // S256 of a verifier (RFC 7636 §4.2), "" if it has none
	Prompts      []string // login, consent, select_account, none
	MaxAge       int      // in seconds, -1 if it says nothing
	LoginHint    string
	form         url.Values
	Provider     string // parameter of the gate's own: a provider to come by, where several are possible
	IDTokenHint  string
	Contexts     []string // acr_values: wished for, not demanded (§5.5.1.1)
	Claims       string   // the claims parameter as given, a JSON object
	Resources    []string // RFC 8707 §2
	method       string   // code_challenge_method
	twice        []string // parameters that came more than once
	others       map[string]string
}

// largestRequest is how much of a request is read, in octets; most of one
// parameter that is given back.
const (
	largestRequest = 32 << 10
	longestState   = 4 << 10
)

// parameters are those that the protocol uses itself (OpenID Connect Core §3.1.2.1, RFC 6749 §4.1, RFC 7636 §4.3,
// RFC 8707 §2, RFC 9101 §5, RFC 9126 §2, RFC 9207 §2), and those of the gate.
var parameters = []string{"client_id", "client_secret", "client_assertion", "client_assertion_type", "redirect_uri",
	"response_type",
	"response_mode", "scope", "state", "nonce", "display", "prompt", "max_age", "ui_locales", "claims_locales",
	"id_token_hint",
	"login_hint", "acr_values", "claims", "request", "request_uri", "registration", "code_challenge",
	"code_challenge_method",
	"resource", "authorization_details", "dpop_jkt", "code", "error", "iss", "provider"}

// CheckExtension sees whether a parameter of an application's own can have a name, in a request and in the claims
// parameter.
func CheckExtension(name string) error {
	odd := func(c rune) bool {
		return c != '_' && c != '-' && c != '.' && (c < '0' || c > '9') && (c < 'A' || c > 'Z') && (c < 'a' || c > 'z')
	}
	switch {
	case slices.Contains(parameters, name) || Reserved(name):
		return fmt.Errorf("%s is a name that the protocol uses itself; take another one, like role", name)
	case len(name) > 60 || strings.ContainsFunc(name, odd):
		return fmt.Errorf("%.60q cannot be a parameter; write it in letters, digits, _, - and . like role", name)
	}
	return nil
}

// Extension is a parameter of the application's own, "" for none.
func (r *Request) Extension(name string) string { return r.form.Get(name) }

// ReadRequest takes a request out of the query or the form that it came in.
// Parameters without value count as absent (RFC 6749 §3.1). Nothing is checked yet
// but that it can be read.
func ReadRequest(form string) (*Request, error) {
	if len(form) > largestRequest {
		return nil, page(finding.New(finding.OAuthRequest,
			finding.Fact("Cause", fmt.Sprintf("it has %d octets; at most %d are read", len(form), largestRequest))))
	}
	values, err := url.ParseQuery(form)
	if err != nil {
		return nil, page(finding.New(finding.OAuthRequest, finding.Fact("Cause", err.Error())))
	}
	r := &Request{MaxAge: -1, others: map[string]string{}, form: values}
	for name := range values {
		values[name] = slices.DeleteFunc(values[name], func(v string) bool { return v == "" })
		if len(values[name]) > 1 && name != "resource" {
			r.twice = append(r.twice, name)
		}
	}
	one := values.Get
	for name, to := range map[string]*string{"client_id": (*string)(&r.ClientID),
		"redirect_uri":  (*string)(&r.RedirectURI),
		"response_type": &r.ResponseType, "response_mode": &r.ResponseMode, "state": &r.State, "nonce": &r.Nonce,
		"code_challenge": &r.Challenge, "code_challenge_method": &r.method, "login_hint": &r.LoginHint,
		"provider":      &r.Provider,
		"id_token_hint": &r.IDTokenHint, "claims": &r.Claims} {
		*to = one(name)
	}
	for _, name := range []string{"request", "request_uri", "registration", "max_age"} {
		r.others[name] = one(name)
	}
	r.Scopes, r.Prompts = strings.Fields(one("scope")), strings.Fields(one("prompt"))
	r.Contexts = strings.Fields(one("acr_values"))
	r.Resources = values["resource"]
	slices.Sort(r.twice)
	return r, nil
}

func page(f *finding.Finding) error { return &Refusal{Code: InvalidRequest, Finding: f} }

// Safe holds the request against the client that it names: until this has
// succeeded the browser is sent nowhere (RFC 6749 §3.1.2.4).
func (r *Request) Safe(c *Client) error {
	for _, name := range []string{"client_id", "redirect_uri"} {
		if slices.Contains(r.twice, name) {
			return page(finding.New(finding.OAuthRequest, finding.Fact("Given more than once", name)))
		}
	}
	if r.RedirectURI == "" {
		return page(finding.New(finding.OAuthRequest, finding.Fact("Missing", "redirect_uri")))
	}
	if c.Redirects(r.RedirectURI) {
		return nil
	}
	near := nearword.Of(string(r.RedirectURI), c.RedirectURIs)
	if near == "" && len(c.RedirectURIs) == 1 {
		near = c.RedirectURIs[0]
	}
	return page(finding.New(finding.RedirectUnregistered, finding.Compare("redirect_uri", near, r.RedirectURI)))
}

// Check holds the rest of the request against the client. What is wrong now the
// client hears at its redirect URI.
func (r *Request) Check(c *Client) error {
	if err := r.Safe(c); err != nil {
		return err
	}
	for _, check := range []func(*Client) *Refusal{r.once, r.kind, r.proof, r.prompt, r.wishes} {
		if refusal := check(c); refusal != nil {
			refusal.Back = true
			return refusal
		}
	}
	return nil
}

func wrong(code Code, evidence ...finding.Evidence) *Refusal {
	return &Refusal{Code: code, Finding: finding.New(finding.OAuthRequest, evidence...)}
}

// once refuses what came twice, and what is not offered.
func (r *Request) once(*Client) *Refusal {
	switch {
	case len(r.twice) > 0:
		return wrong(InvalidRequest, finding.Fact("Given more than once", strings.Join(r.twice, ", ")))
	case len(r.State) > longestState || len(r.Nonce) > longestState:
		return wrong(InvalidRequest, finding.Fact("Too long", fmt.Sprintf("state or nonce; at most %d octets",
			longestState)))
	case r.others["request"] != "":
		return wrong(RequestNotSupported, finding.Fact("Not offered", "request objects (request)"))
	case r.others["request_uri"] != "":
		return wrong(RequestURIsUnwelcome, finding.Fact("Not offered", "request_uri that was not pushed here"))
	case r.others["registration"] != "":
		return wrong("registration_not_supported", finding.Fact("Not offered", "registration in the request"))
	}
	return nil
}

// kind refuses flows that are not offered.
func (r *Request) kind(*Client) *Refusal {
	switch {
	case r.ResponseType == "":
		return wrong(InvalidRequest, finding.Fact("Missing", "response_type"))
	case r.ResponseType != "code":
		return wrong(UnsupportedResponse, finding.Compare("response_type", "code", r.ResponseType))
	case r.ResponseMode == "":
		r.ResponseMode = "query"
	case r.ResponseMode != "query" && r.ResponseMode != "form_post":
		return wrong(InvalidRequest, finding.Compare("response_mode", "query or form_post", r.ResponseMode))
	}
	return nil
}

// challenges are S256 in base64url (RFC 7636 §4.2).
var challenges = regexp.MustCompile(`^[A-Za-z0-9_-]{43}$`)

// proof demands a code challenge (RFC 7636 §4.4.1, RFC 9700 §2.1.1).
func (r *Request) proof(c *Client) *Refusal {
	missing := func(e finding.Evidence) *Refusal {
		return &Refusal{Code: InvalidRequest, Finding: finding.New(finding.PKCEMissing, e)}
	}
	switch {
	case r.Challenge == "" && r.method != "":
		return missing(finding.Fact("Missing", "code_challenge"))
	case r.Challenge == "" && (!c.WithoutPKCE || c.Kind.Public()):
		return missing(finding.Fact("Missing", "code_challenge"))
	case r.Challenge == "":
		return nil
	case r.method != "S256": // absent means plain
		method := r.method
		if method == "" {
			method = "plain"
		}
		return missing(finding.Compare("code_challenge_method", "S256", method))
	case !challenges.MatchString(r.Challenge):
		return missing(finding.Fact("code_challenge", "is not SHA-256 in base64url: 43 letters"))
	}
	return nil
}

// prompt refuses prompts that contradict each other (Core §3.1.2.1), and a max_age
// that is no number.
func (r *Request) prompt(*Client) *Refusal {
	for _, p := range r.Prompts {
		switch {
		case !slices.Contains([]string{"none", "login", "consent", "select_account"}, p):
			return wrong(InvalidRequest, finding.Compare("prompt", "none, login, consent, select_account", p))
		case p == "none" && len(r.Prompts) > 1:
			return wrong(InvalidRequest, finding.Fact("prompt", "none together with another value"))
		}
	}
	if age := r.others["max_age"]; age != "" {
		n, err := strconv.Atoi(age)
		if err != nil || n < 0 {
			return wrong(InvalidRequest, finding.Compare("max_age", "seconds", age))
		}
		r.MaxAge = n
	}
	return nil
}

// wishes refuses resources and claims that cannot be. Scopes that are not known are
// passed over, and without openid there is no ID token (Core §3.1.2.1).
func (r *Request) wishes(c *Client) *Refusal {
	for _, target := range r.Resources {
		if !slices.Contains(c.Resources, target) {
			return wrong(InvalidTarget, finding.Compare("resource", nearword.Of(target, c.Resources), target))
		}
	}
	if r.Claims != "" {
		if _, err := object([]byte(r.Claims)); err != nil {
			return wrong(InvalidRequest, finding.Fact("claims", err.Error()))
		}
	}
	return nil
}
