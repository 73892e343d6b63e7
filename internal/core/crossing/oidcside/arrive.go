package oidcside

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/strictjson"
)

// Request takes an authorization request in, as the query or form it came in.
// posted says that it came by POST, ahead that it was pushed before (RFC 9126).
func Request(form string, posted, ahead bool) *crossing.Arrival {
	shown := unsigned(form)
	a := &crossing.Arrival{Protocol: Name, From: crossing.Application, Name: "Authorization request", Binding: "GET",
		Indirect: posted, Raw: shown, Octets: []byte(lined(shown))}
	if posted {
		a.Binding = "POST"
	}
	if ahead {
		a.Binding = pushed
	}
	r, err := oidc.ReadRequest(form)
	if err != nil {
		a.Broken = err
		return a
	}
	a.Message = r
	a.Says = []finding.Evidence{finding.Fact("client_id", finding.Clip(r.ClientID))}
	a.Whose = func(s *federation.Snapshot) (federation.Name, bool) {
		if app, ok := s.ApplicationBy(Name, string(r.ClientID)); ok {
			return app.Name, true
		}
		return "", false
	}
	return a
}

// pushed is the binding of a request that was pushed before.
const pushed = "pushed"

// Unreadable is a request that could not be taken out of where it came in.
func Unreadable(err error) *crossing.Arrival {
	return &crossing.Arrival{Protocol: Name, From: crossing.Application, Name: "Authorization request", Broken: err}
}

// unsigned is a request without secrets, and the signatures of tokens, in it.
func unsigned(form string) string {
	parts := strings.Split(crossing.Masked(form), "&")
	for i, part := range parts {
		if crossing.ParameterOf(part) != "id_token_hint" {
			continue
		}
		name, value, _ := strings.Cut(part, "=")
		if plain, err := url.QueryUnescape(value); err == nil {
			value = plain
		}
		if token := strings.SplitN(value, ".", 3); len(token) == 3 && token[2] != "" {
			parts[i] = name + "=" + url.QueryEscape(token[0]+"."+token[1]+".") + "(signature)"
		}
	}
	return strings.Join(parts, "&")
}

// Shown is a request as a trace has it: a parameter on each line, decoded, and tokens
// without their signatures.
func Shown(form string) string { return lined(unsigned(form)) }

func lined(form string) string {
	lines := strings.Split(form, "&")
	for i, line := range lines {
		if plain, err := url.QueryUnescape(line); err == nil {
			lines[i] = plain
		}
	}
	return strings.Join(lines, "\n")
}

// reply is how and where the application wants its answer, and what it asked for.
type reply struct {
	RedirectURI oidc.RedirectURI `json:"redirectUri"`
	State       string           `json:"state,omitempty"`
	Form        bool             `json:"form,omitempty"` // by form_post
	Nonce       string           `json:"nonce,omitempty"`
	Challenge   string           `json:"challenge,omitempty"`
	Scopes      []string         `json:"scopes,omitempty"` // that are granted
	Resources   []string         `json:"resources,omitempty"`
	IDClaims    []string         `json:"idClaims,omitempty"`
	InfoClaims  []string         `json:"infoClaims,omitempty"`
	Consent     bool             `json:"consent,omitempty"` // prompt=consent
	Passive     bool             `json:"passive,omitempty"`
	Error       oidc.Code        `json:"error,omitempty"` // what it hears, if the request cannot be
}

// Receive holds an authorization request against the application (OpenID Connect
// Core §3.1.2.2). Until the redirect URI is known to be the application's nothing
// goes there.
func (a *Application) Receive(g *federation.Gate, _ *federation.Application, in *crossing.Arrival,
	_ time.Time) (out crossing.Request, log finding.Checks, err error) {
	q, ok := in.Message.(*oidc.Request)
	if !ok {
		return out, log, finding.New(finding.ApplicationUnknown, in.Says...)
	}
	c := a.Client(nil)
	if c.Kind == oidc.Service {
		return out, log, finding.New(finding.OAuthRequest,
			finding.Fact("Kind", "the application is a service: nobody signs in to it; use grant_type=client_credentials"))
	}
	if err := q.Safe(c); err != nil {
		return out, log, log.Fail("Redirect URI", finding.Of(err))
	}
	log.Pass("Redirect URI", "on record: "+string(q.RedirectURI))
	r := reply{RedirectURI: q.RedirectURI, State: q.State, Form: q.ResponseMode == "form_post", Nonce: q.Nonce,
		Challenge: q.Challenge, Resources: once(q.Resources), Consent: slices.Contains(q.Prompts, "consent"),
		Passive: slices.Contains(q.Prompts, "none")}
	refusal := oidc.RefusalOf(q.Check(c))
	if refusal == nil && a.Pushes && in.Binding != pushed {
		refusal = &oidc.Refusal{Code: oidc.InvalidRequest, Finding: finding.New(finding.OAuthRequest,
			finding.Compare("Request", "pushed before (require_pushed_authorization_requests)", "in the address"))}
	}
	var w crossing.Wish
	if refusal == nil {
		log.Pass("Flow", "code, with "+map[bool]string{true: "PKCE", false: "no PKCE, by exception"}[q.Challenge != ""])
		w, refusal = a.wish(g, q, &r)
	}
	if refusal != nil {
		r.Error, out.Unmet = refusal.Code, refusal.Finding
	}
	for _, s := range q.Scopes {
		if a.may(s) && !slices.Contains(r.Scopes, s) {
			r.Scopes = append(r.Scopes, s)
		}
	}
	w.Scopes, w.Claims = r.Scopes, slices.Concat(r.IDClaims, r.InfoClaims)
	out.Wish = w
	out.Values = federation.Labelled("Client ID", string(q.ClientID), "Scope asked for", strings.Join(q.Scopes, " "),
		"Scope granted",
		strings.Join(r.Scopes, " "), "Claims", strings.Join(slices.Compact(slices.Sorted(slices.Values(w.Claims))), " "),
		"Resource", strings.Join(q.Resources, " "),
		"Answer by", cmp.Or(q.ResponseMode, "query"), "Prompt", strings.Join(q.Prompts, " "))
	out.Own, err = json.Marshal(r)
	return out, log, err
}

// once are texts in their order, each once.
func once(list []string) (out []string) {
	for _, s := range list {
		if !slices.Contains(out, s) && len(out) <= mostNamed {
			out = append(out, s)
		}
	}
	return out
}

// mostContexts is how many authentication contexts a request may name: they go to
// the provider in an address.
const mostContexts = 20

// wish is what the request demands of the sign-in, in the gate's words.
func (a *Application) wish(g *federation.Gate, q *oidc.Request, r *reply) (w crossing.Wish, no *oidc.Refusal) {
	if q.MaxAge < 0 && a.MaxAge != nil {
		q.MaxAge = *a.MaxAge
	}
	w = crossing.Wish{Passive: r.Passive, Timed: a.Timed, MaxAge: a.lives.signIn, Contexts: q.Contexts,
		Voluntary: len(q.Contexts) > 0, Comparison: federation.CompareExact,
		// To choose another account, the person has to be asked anew.
		Force: slices.Contains(q.Prompts, "login") || slices.Contains(q.Prompts, "select_account") || q.MaxAge == 0}
	if age := time.Duration(q.MaxAge) * time.Second; q.MaxAge > 0 && (w.MaxAge == 0 || age < w.MaxAge) {
		w.MaxAge = age
	}
	if q.LoginHint != "" {
		w.Hints = []string{q.LoginHint}
	}
	if q.Provider != "" && len(q.Provider) <= 1024 {
		w.Named = []string{q.Provider}
	}
	if q.IDTokenHint != "" {
		sub, f := a.hinted(g, q.IDTokenHint)
		if f != nil {
			return w, &oidc.Refusal{Code: oidc.InvalidRequest, Finding: f}
		}
		w.Subject = sub
	}
	if no := r.claims(q.Claims, a.RoleParameter, &w); no != nil {
		return w, no
	}
	if role := q.Extension(a.RoleParameter); a.RoleParameter != "" && role != "" {
		w.Role = finding.Clip(role)
	}
	r.IDClaims, r.InfoClaims = a.bounded(r.IDClaims), a.bounded(r.InfoClaims)
	if len(w.Contexts) > mostContexts {
		return w, &oidc.Refusal{Code: oidc.InvalidRequest, Finding: finding.New(finding.OAuthRequest,
			finding.Fact("acr_values", fmt.Sprintf("has %d; at most %d are taken", len(w.Contexts), mostContexts)))}
	}
	if len(w.Contexts) == 0 {
		w.Comparison, w.Voluntary = "", false
	}
	return w, nil
}

// hinted is the person whom an ID token of ours is about. It may have ended (Core
// §3.1.2.1), but it was given to this application.
func (a *Application) hinted(g *federation.Gate, token string) (string, *finding.Finding) {
	claims, err := oidc.Wanted{Kind: oidc.IDToken, Algorithms: Algorithms, Keys: SigningKeys(g)}.Verify(token)
	if err != nil {
		return "", finding.New(finding.OAuthRequest, finding.Fact("id_token_hint", finding.Of(err).Title))
	}
	aud, _ := claims["aud"].(string)
	iss, _ := claims["iss"].(string)
	sub, _ := claims["sub"].(string)
	switch {
	case oidc.Issuer(iss) != Issuer(g) || sub == "":
		return "", finding.New(finding.OAuthRequest, finding.Compare("iss of id_token_hint", Issuer(g), iss))
	case oidc.ClientID(aud) != a.ClientID:
		return "", finding.New(finding.OAuthRequest, finding.Compare("aud of id_token_hint", a.ClientID, aud))
	}
	return sub, nil
}

// mostClaims is how many claims a request may name.
const mostClaims = 100

// claims reads the claims parameter (OpenID Connect Core §5.5). A context that is
// essential is demanded, and so are a subject that is named, and a role, by the name that the record gives the claim.
func (r *reply) claims(text, role string, w *crossing.Wish) *oidc.Refusal {
	if text == "" {
		return nil
	}
	bad := func(evidence finding.Evidence) *oidc.Refusal {
		return &oidc.Refusal{Code: oidc.InvalidRequest, Finding: finding.New(finding.OAuthRequest, evidence)}
	}
	o, err := strictjson.Object([]byte(text), 32)
	if err != nil {
		return bad(finding.Fact("claims", err.Error()))
	}
	for place, to := range map[string]*[]string{"id_token": &r.IDClaims, "userinfo": &r.InfoClaims} {
		wanted, ok := o[place].(map[string]any)
		if !ok && o[place] != nil || len(wanted) > mostClaims {
			return bad(finding.Fact("claims", place+" is no object of at most 100 claims"))
		}
		for name := range wanted {
			if !oidc.Reserved(name) {
				*to = append(*to, name)
			}
		}
		slices.Sort(*to)
	}
	wanted, _ := o["id_token"].(map[string]any)
	if acr, ok := wanted["acr"].(map[string]any); ok && acr["essential"] == true {
		if contexts := named(acr); len(contexts) > 0 {
			w.Contexts, w.Voluntary, w.Comparison = contexts, false, federation.CompareExact
		}
	}
	info, _ := o["userinfo"].(map[string]any)
	if at, ok := wanted["auth_time"].(map[string]any); ok && at["essential"] == true {
		w.Timed = true
	}
	for _, place := range []map[string]any{wanted, info} {
		if asked, _ := place[role].(map[string]any); role != "" && len(named(asked)) > 0 {
			w.Role = finding.Clip(named(asked)[0])
		}
		sub, _ := place["sub"].(map[string]any)
		switch one := named(sub); {
		case len(one) != 1:
		case w.Subject != "" && w.Subject != one[0]:
			return bad(finding.Fact("sub", "id_token_hint and claims name two people"))
		default:
			w.Subject = one[0]
		}
	}
	return nil
}

// named are the values that a request for one claim names: value, or values.
func named(claim map[string]any) (out []string) {
	list, _ := claim["values"].([]any)
	for _, v := range append(list, claim["value"]) {
		if s, ok := v.(string); ok {
			out = append(out, s)
		}
	}
	return out
}
