package oidc

import (
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/finding"
)

// Asking is an authorization request of ours (OpenID Connect Core §3.1.2.1, RFC 6749
// §4.1.1). What is empty is left out.
type Asking struct {
	ClientID     ClientID
	RedirectURI  RedirectURI
	ResponseType string
	ResponseMode string
	Scopes       []string
	State        string
	Nonce        string
	Verifier     string // its S256 goes along (RFC 7636 §4.3)
	Prompts      []string
	MaxAge       *time.Duration
	Contexts     []string // acr_values
	Essential    bool     // the contexts are demanded, by the claims parameter (§5.5.1.1)
	LoginHint    string
	Claims       []string // single ones, by the claims parameter
	Resource     string
	More         url.Values // further parameters of the record
}

// Parameters are those of the request.
func (a Asking) Parameters() url.Values {
	q := url.Values{}
	for name, values := range a.More {
		q[name] = values
	}
	for name, v := range map[string]string{"client_id": string(a.ClientID), "redirect_uri": string(a.RedirectURI),
		"response_type": a.ResponseType, "response_mode": a.ResponseMode, "scope": strings.Join(a.Scopes, " "),
		"state": a.State, "nonce": a.Nonce, "prompt": strings.Join(a.Prompts, " "), "login_hint": a.LoginHint,
		"resource": a.Resource, "claims": a.claims()} {
		if v != "" {
			q.Set(name, v)
		}
	}
	if a.Verifier != "" {
		q.Set("code_challenge", Challenge(a.Verifier))
		q.Set("code_challenge_method", "S256")
	}
	if a.MaxAge != nil {
		q.Set("max_age", strconv.FormatInt(int64(a.MaxAge.Seconds()), 10))
	}
	if len(a.Contexts) > 0 && !a.Essential {
		q.Set("acr_values", strings.Join(a.Contexts, " "))
	}
	return q
}

// claims is the claims parameter (OpenID Connect Core §5.5), "" if none is wanted.
func (a Asking) claims() string {
	wanted := map[string]map[string]any{}
	if a.Essential && len(a.Contexts) > 0 {
		wanted["id_token"] = map[string]any{"acr": map[string]any{"essential": true, "values": a.Contexts}}
	}
	for _, name := range a.Claims {
		if wanted["userinfo"] == nil {
			wanted["userinfo"] = map[string]any{}
		}
		wanted["userinfo"][name] = nil
	}
	if len(wanted) == 0 {
		return ""
	}
	octets, err := json.Marshal(wanted)
	if err != nil {
		return "" // texts alone can be written
	}
	return string(octets)
}

// Address is where the browser goes: the parameters stand behind those that the
// endpoint has (RFC 6749 §3.1).
func (a Asking) Address(endpoint string) string {
	sep := "?"
	if strings.Contains(endpoint, "?") {
		sep = "&"
	}
	return endpoint + sep + a.Parameters().Encode()
}

// Answered is an authorization response (OpenID Connect Core §3.1.2.5, §3.3.2.5).
type Answered struct {
	State       string
	Issuer      Issuer // iss (RFC 9207), "" if it does not say
	Code        string
	IDToken     string
	Error       string // word for word
	Description string
	ErrorURI    string
}

// largestAnswer is how much of a response is read, in octets.
const largestAnswer = 256 << 10

// ReadAnswered takes a response out of the query or form that it came in. A parameter
// that comes twice is refused (RFC 6749 §3.1).
func ReadAnswered(form string) (a Answered, err error) {
	bad := func(label, cause string) error {
		return finding.New(finding.AnswerMalformed, finding.Fact(label, cause))
	}
	if len(form) > largestAnswer {
		return a, bad("Cause", fmt.Sprintf("it has %d octets; at most %d are read", len(form), largestAnswer))
	}
	values, err := url.ParseQuery(form)
	if err != nil {
		return a, bad("Cause", err.Error())
	}
	for name, to := range map[string]*string{"state": &a.State, "iss": (*string)(&a.Issuer), "code": &a.Code,
		"id_token": &a.IDToken, "error": &a.Error, "error_description": &a.Description, "error_uri": &a.ErrorURI} {
		given := slices.DeleteFunc(slices.Clone(values[name]), func(v string) bool { return v == "" })
		if len(given) > 1 {
			return a, bad("Given more than once", name)
		}
		if len(given) == 1 {
			*to = given[0]
		}
	}
	return a, nil
}

// refusals of an authorization endpoint (RFC 6749 §4.1.2.1, OpenID Connect Core
// §3.1.2.6), and what they come to here. Others are requests that the provider does
// not take.
var answerErrors = map[string]finding.Code{
	"access_denied":  finding.ProviderDenied,
	"login_required": finding.PassiveImpossible, "interaction_required": finding.PassiveImpossible,
	"consent_required": finding.PassiveImpossible, "account_selection_required": finding.PassiveImpossible,
	"unmet_authentication_requirements": finding.ContextImpossible,
	"server_error":                      finding.ProviderFailed, "temporarily_unavailable": finding.ProviderBusy,
}

// Refused is the finding of an error that the provider answered with, nil if it is
// none: its words as they are.
func (a Answered) Refused() *finding.Finding {
	if a.Error == "" {
		return nil
	}
	code, ok := answerErrors[a.Error]
	if !ok {
		code = finding.ProviderRequest
	}
	return finding.New(code, wordForWord(a.Error, a.Description, a.ErrorURI)...)
}

// wordForWord is what a provider said as evidence.
func wordForWord(code, description, uri string) (out []finding.Evidence) {
	for _, e := range [][2]string{{"error", code}, {"error_description", description}, {"error_uri", uri}} {
		if e[1] != "" {
			out = append(out, finding.Fact(e[0], finding.ClipTo(e[1], longestShown)))
		}
	}
	return out
}

// longestShown is how much of a value is shown that has to be compared, in octets.
const longestShown = 2000

// TokenAnswer is what a token endpoint answered (RFC 6749 §5.1, OpenID Connect Core
// §3.1.3.3).
type TokenAnswer struct {
	AccessToken  string
	RefreshToken string
	IDToken      string
	Life         time.Duration // 0 if it does not say
	Scope        string        // "" if it does not say: that which was asked for
}

// Reply is the answer of an endpoint as it came.
type Reply struct {
	Status int
	Type   string // Content-Type
	Octets []byte
}

// page reports whether a page came where JSON was wanted.
func (r Reply) page() bool {
	return strings.Contains(strings.ToLower(r.Type), "html") || bytesBegin(r.Octets, "<")
}

func bytesBegin(octets []byte, with string) bool {
	return strings.HasPrefix(strings.TrimSpace(string(octets[:min(len(octets), 200)])), with)
}

// excerpt is the beginning of what came, for people.
func (r Reply) excerpt() string {
	return strings.ToValidUTF8(strings.TrimSpace(string(r.Octets[:min(len(r.Octets), 300)])), "")
}

// tokenErrors are those of a token endpoint (RFC 6749 §5.2, RFC 9449 §5).
var tokenErrors = map[string]finding.Code{
	"invalid_client": finding.ClientRefused, "unauthorized_client": finding.ClientRefused,
	"invalid_grant": finding.CodeRefused,
	"server_error":  finding.ProviderFailed, "temporarily_unavailable": finding.ProviderBusy,
	"invalid_dpop_proof": finding.RequiresUnoffered, "use_dpop_nonce": finding.RequiresUnoffered,
}

// ReadTokenAnswer takes tokens out of an answer. Every error is a finding, with what
// the provider said word for word.
func ReadTokenAnswer(r Reply) (t TokenAnswer, err error) {
	odd := func(cause string) error {
		return finding.New(finding.TokenAnswerOdd, finding.Fact("Cause", cause), finding.Fact("HTTP status",
			strconv.Itoa(r.Status)), finding.Fact("Begins with", r.excerpt()))
	}
	if r.page() {
		return t, odd("a page came instead of JSON")
	}
	o, err := document(r.Octets)
	if err != nil && r.Status/100 != 2 {
		return t, finding.New(finding.ProviderFailed, finding.Fact("HTTP status", strconv.Itoa(r.Status)),
			finding.Fact("Begins with", r.excerpt()))
	}
	if err != nil {
		return t, odd(err.Error())
	}
	if code := text(o, "error"); code != "" || r.Status/100 != 2 {
		return t, tokenRefused(o, r.Status)
	}
	t = TokenAnswer{AccessToken: text(o, "access_token"), RefreshToken: text(o, "refresh_token"),
		IDToken: text(o, "id_token"), Scope: text(o, "scope")}
	if n, ok := o["expires_in"].(json.Number); ok {
		if s, err := n.Int64(); err == nil && s > 0 && s < 1<<31 {
			t.Life = time.Duration(s) * time.Second
		}
	}
	if kind := text(o, "token_type"); !strings.EqualFold(kind, "Bearer") {
		if strings.EqualFold(kind, "DPoP") {
			return t, finding.New(finding.RequiresUnoffered, finding.Compare("token_type", "Bearer", kind))
		}
		return t, odd(fmt.Sprintf("token_type is %q instead of Bearer", kind))
	}
	for _, token := range []string{t.AccessToken, t.RefreshToken} {
		if len(token) > longestToken {
			return t, odd(fmt.Sprintf("a token has %d octets; at most %d are taken", len(token), longestToken))
		}
	}
	if t.AccessToken == "" {
		return t, odd("access_token is missing")
	}
	return t, nil
}

func tokenRefused(o map[string]any, status int) error {
	code, ok := tokenErrors[text(o, "error")]
	switch {
	case ok:
	case status >= 500:
		code = finding.ProviderFailed
	default:
		code = finding.TokenRefused
	}
	return finding.New(code, append(wordForWord(text(o, "error"), text(o, "error_description"), text(o, "error_uri")),
		finding.Fact("HTTP status", strconv.Itoa(status)))...)
}

// ReadUserInfo takes claims out of the answer of a user-info address, in JSON (OpenID
// Connect Core §5.3.2). A JWT is for whoever has the keys.
func ReadUserInfo(r Reply) (map[string]any, error) {
	odd := func(cause string) error {
		return finding.New(finding.UserInfoOdd, finding.Fact("Cause", cause), finding.Fact("HTTP status",
			strconv.Itoa(r.Status)), finding.Fact("Begins with", r.excerpt()))
	}
	switch {
	case r.Status/100 != 2:
		return nil, userInfoRefused(r)
	case r.page():
		return nil, odd("a page came instead of JSON")
	}
	claims, err := document(r.Octets)
	if err != nil {
		return nil, odd(err.Error())
	}
	if claims["error"] != nil && claims["sub"] == nil { // some answer 200 with an error
		return nil, userInfoRefused(r)
	}
	return claims, nil
}

// Signed reports whether an answer is a JWT.
func (r Reply) Signed() bool {
	kind, _, _ := strings.Cut(strings.ToLower(r.Type), ";")
	return strings.TrimSpace(kind) == "application/jwt" && r.Status/100 == 2
}

func userInfoRefused(r Reply) error {
	evidence := []finding.Evidence{finding.Fact("HTTP status", strconv.Itoa(r.Status))}
	if o, err := document(r.Octets); err == nil && text(o, "error") != "" {
		evidence = append(wordForWord(text(o, "error"), text(o, "error_description"), ""), evidence...)
	} else {
		evidence = append(evidence, finding.Fact("Begins with", r.excerpt()))
	}
	return finding.New(finding.UserInfoRefused, evidence...)
}
