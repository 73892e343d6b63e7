package rpside

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
)

// asked is what is kept of a request until the answer comes. ID is state; nonce and
// verifier follow from it.
type asked struct {
	ID       string `json:"id"`
	AuthTime bool   `json:"authTime,omitempty"` // max_age was sent, so auth_time has to come
}

// derived is a secret that belongs to one request: nobody who knows its name alone can
// tell it, and it need not be kept.
func derived(g *federation.Gate, what, id string) string {
	mac := hmac.New(sha256.New, g.Handles)
	mac.Write([]byte("rp " + what + "\x1f" + id))
	return base64.RawURLEncoding.EncodeToString(mac.Sum(nil))
}

// mostHint bounds in octets what a request names as login_hint.
const mostHint = 256

// ask plans an authorization request (OpenID Connect Core §3.1.2.1). What is demanded
// and could not be proved afterwards is refused at once.
func (p *Provider) ask(in crossing.In) crossing.Out {
	if p.Doc.Authorize == "" {
		return crossing.Out{Err: finding.New(finding.MetadataNoEndpoint)}
	}
	if f := p.cannot(in.Wish); f != nil {
		return crossing.Out{Err: f}
	}
	id, w := in.Facts.New, in.Wish
	q := oidc.Asking{ClientID: p.ClientID, RedirectURI: oidc.RedirectURI(RedirectURI(in.Gate, in.Provider.Name)),
		ResponseType: p.responseType(), Scopes: p.scopes(), State: id, More: p.compiled.more,
		Contexts: w.Contexts, Essential: len(w.Contexts) > 0 && !w.Voluntary && p.Doc.ClaimsRequest}
	if p.ResponseType != "" && p.ResponseType != "code" {
		q.ResponseMode = "form_post"
	}
	if p.Prompt != "" {
		q.Prompts = []string{p.Prompt}
	}
	switch {
	case w.Force:
		q.Prompts, q.MaxAge = []string{"login"}, new(time.Duration)
	case w.MaxAge > 0:
		q.MaxAge = &w.MaxAge
	}
	if w.Passive {
		q.Prompts = []string{"none"}
	}
	own, err := json.Marshal(asked{ID: id, AuthTime: q.MaxAge != nil})
	if w.Timed && q.MaxAge == nil { // whoever is asked for any age has to tell it (Core §3.1.2.1)
		q.MaxAge = &anyAge
	}
	out := crossing.Out{Own: own, Handle: id, Err: err}
	if p.plain() && len(q.Contexts) > 0 { // only wished for
		out.Unsaid = append(out.Unsaid, "the method "+strings.Join(q.Contexts, " or "))
		q.Contexts = nil
	}
	var told bool
	if q.LoginHint, told = hint(w.Hints); !told {
		out.Unsaid = append(out.Unsaid, "whom to sign in as")
	}
	out.Next = &crossing.Leave{To: crossing.Provider, Plan: asking{request: q, to: p.Doc.Authorize,
		nonce: !p.plain(), pkce: !p.WithoutPKCE && p.ResponseType != idTokenOnly}}
	return out
}

// anyAge is older than any sign-in is.
var anyAge = 10 * 365 * 24 * time.Hour

// cannot says what is demanded of a provider without ID tokens: it says neither when
// nor how somebody signed in.
func (p *Provider) cannot(w crossing.Wish) *finding.Finding {
	switch protocol := finding.Fact("Protocol", "oauth2, which says neither when nor how"); {
	case !p.plain():
	case w.Force || w.MaxAge > 0:
		return finding.New(finding.AuthnTooOld, protocol)
	case w.Timed:
		return finding.New(finding.AuthnTimeMissing, protocol)
	case w.Passive:
		return finding.New(finding.PassiveImpossible, protocol)
	case len(w.Contexts) > 0 && !w.Voluntary:
		return finding.New(finding.ContextImpossible, protocol)
	}
	return nil
}

// hint is the name that a request can carry, and whether nothing expected is lost.
func hint(expected []string) (string, bool) {
	if len(expected) == 0 {
		return "", true
	}
	name := expected[0]
	odd := strings.ContainsFunc(name, func(r rune) bool { return r < 0x20 || r == 0x7f })
	if len(expected) > 1 || len(name) > mostHint || !utf8.ValidString(name) || odd {
		return "", false
	}
	return name, true
}

// asking is the plan of an authorization request.
type asking struct {
	request     oidc.Asking
	to          string
	nonce, pkce bool
}

// Render makes it.
func (a asking) Render(g *federation.Gate, _ crossing.Made) (crossing.Rendered, error) {
	q := a.request
	if a.nonce {
		q.Nonce = derived(g, "nonce", q.State)
	}
	if a.pkce {
		q.Verifier = derived(g, "verifier", q.State)
	}
	return crossing.Rendered{Departure: crossing.Departure{Message: "Authorization request", Binding: "redirect",
		Location: q.Address(a.to), Shown: a.to, Octets: []byte(lines(q.Parameters()))}}, nil
}

// Sent says what is asked for.
func (a asking) Sent() []federation.Value {
	r := a.request
	out := federation.Labelled("Authorization endpoint", a.to, "Client ID", string(r.ClientID), "Redirect URI",
		string(r.RedirectURI),
		"Response type", r.ResponseType, "Scope", strings.Join(r.Scopes, " "), "Prompt", strings.Join(r.Prompts, " "),
		"acr_values", strings.Join(r.Contexts, " "), "login_hint", r.LoginHint)
	if r.MaxAge != nil {
		out = append(out, federation.Labelled("max_age", fmt.Sprint(int64(r.MaxAge.Seconds())))...)
	}
	return append(out, federation.Labelled("PKCE", map[bool]string{true: "S256", false: "none"}[a.pkce])...)
}

// secret parameters, which no trace has.
var secret = []string{"code", "access_token", "refresh_token", "client_secret", "code_verifier", "id_token",
	"client_assertion", "logout_token", "id_token_hint"}

const masked = "(a secret, not recorded)"

// Shown is a form as a trace has it.
func Shown(form url.Values) string { return lines(form) }

// lines shows parameters one below the other, decoded, and without secrets.
func lines(q url.Values) string {
	var out []string
	for name, list := range q {
		for _, v := range list {
			if slices.Contains(secret, name) || crossing.Hides(name) {
				v = masked
			}
			out = append(out, name+"="+v)
		}
	}
	slices.Sort(out)
	return strings.Join(out, "\n")
}
