package oidcside

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/url"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/profile"
)

// Unasked refuses: the protocol knows no answer that nobody asked for.
func (a *Application) Unasked(*federation.Gate, *federation.Application, crossing.Landing) (json.RawMessage, error) {
	return nil, finding.New(finding.OwnStartMissing, finding.Fact("initiate_login_uri", "none on record"))
}

// publicSector is whom public subjects are made for: all applications.
const publicSector = "oidc public"

// Naming is by a subject that lasts; for somebody whom the provider names for one
// session only, it lasts as long.
func (a *Application) Naming(*federation.Application, json.RawMessage) (profile.Wanted, error) {
	w := profile.Wanted{Kind: profile.Lasting, Word: "public", For: publicSector, OrPassing: true}
	if a.Subject == "pairwise" {
		w.Word, w.For = a.Subject, a.sector()
	}
	return w, nil
}

// answer is the plan of an authorization response with a code, and of what can be
// redeemed by it.
type answer struct {
	side  *Application
	reply reply
	name  profile.Name
	word  *crossing.Answer
	grant grant.Grant
	sid   string // by which the application is told of the session
	told  []profile.Claim
	// attributes are what the release made.
	attributes []profile.Attribute
	now        time.Time
}

// Answer plans a response with a code.
func (a *Application) Answer(in crossing.AnswerIn) (crossing.Plan, error) {
	var r reply
	if err := json.Unmarshal(in.Own, &r); err != nil {
		return nil, err
	}
	if in.Released.Name.Kind == profile.Passing {
		r.Scopes = slices.DeleteFunc(slices.Clone(r.Scopes), func(s string) bool { return s == offline })
	}
	name := in.Released.Name
	offers := !a.NoRefresh && name.Kind != profile.Passing
	return answer{side: a, reply: r, name: name, word: in.Answer, sid: sidOf(in.Session, string(a.ClientID)),
		told: a.told(in.Released.Attributes, r), attributes: in.Released.Attributes, now: in.Now,
		grant: grant.Grant{ID: in.New, Client: in.App.ID, Person: in.Person.ID, Subject: a.subjectOf(in), Scopes: r.Scopes,
			Resources: r.Resources, Session: in.Session, Offline: offers && slices.Contains(r.Scopes, offline),
			Refreshes: offers, Began: in.Now, IDClaims: r.IDClaims, InfoClaims: r.InfoClaims,
			Code: grant.Code{RedirectURI: r.RedirectURI, Challenge: r.Challenge, Nonce: r.Nonce}}}, nil
}

// subjectOf is by what the application is told somebody: for a name that passes, it lasts as long as the session.
func (a *Application) subjectOf(in crossing.AnswerIn) string {
	switch name := in.Released.Name; {
	case name.Kind == profile.Passing:
		from := strings.Join([]string{"session", in.Session, string(in.Answer.ProviderID), in.Answer.Subject.Value}, "\x1f")
		return crossing.Derive(in.Gate.Pairwise, from, string(a.ClientID))
	case name.Derived():
		return crossing.Derive(in.Gate.Pairwise, in.Person.Identifier, name.For)
	default:
		return name.Value
	}
}

const offline = "offline_access"

// Issues is what can be redeemed by the code.
func (p answer) Issues() crossing.Issue {
	out := crossing.Issue{Session: p.sid, Name: Told{Subject: p.grant.Subject}, Grant: &p.grant,
		As: p.grant.Subject}
	if p.name.Derived() {
		out.Subject = p.grant.Subject
	}
	return out
}

// Render makes the code.
func (p answer) Render(g *federation.Gate, _ crossing.Made) (crossing.Rendered, error) {
	var out crossing.Rendered
	code := grant.Handle{Kind: grant.CodeHandle, Grant: p.grant.ID}.Token(g.Handles)
	out.Departure = p.reply.depart(g, "Authorization response", "code", code)
	out.Departure.Until = p.now.Add(grant.CodeLife)
	return out, nil
}

// Told is the name by which an application was told somebody.
type Told struct {
	Subject string `json:"sub"`
}

// sidOf names a session towards one client: it tells nothing that another client
// could compare.
func sidOf(lasting, client string) string {
	sum := sha256.Sum256([]byte("sid\x1f" + lasting + "\x1f" + client))
	return base64.RawURLEncoding.EncodeToString(sum[:16])
}

// Sent says what the application is told, and what it may ask for afterwards.
func (p answer) Sent() []federation.Value {
	sub := p.name.String()
	if p.name.Kind == profile.Passing {
		sub = "made for this session"
	}
	out := federation.Labelled("Redirect URI", string(p.reply.RedirectURI), "code", "once, within a minute", "Scope",
		strings.Join(p.reply.Scopes, " "),
		"sub", sub, "Audience", strings.Join(append([]string{string(p.side.ClientID)}, p.reply.Resources...), " "),
		"acr", p.word.Context)
	for _, c := range p.told {
		out = append(out, federation.Value{Label: "Claim " + c.Name, Value: profile.Joined(c.Values)})
	}
	return out
}

// depart is the response by the way that was asked for: in the query, or as a form
// (OAuth 2.0 Multiple Response Types §2.1, Form Post Response Mode). It names the
// issuer (RFC 9207).
func (r reply) depart(g *federation.Gate, message string, pairs ...string) crossing.Departure {
	pairs = append(pairs, "iss", string(Issuer(g)))
	if r.State != "" {
		pairs = append(pairs, "state", r.State)
	}
	d := crossing.Departure{Message: message, Binding: "query", Location: string(r.RedirectURI),
		Shown: string(r.RedirectURI)}
	var shown []string
	query := url.Values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		name, value := pairs[i], pairs[i+1]
		query.Set(name, value)
		d.Form = append(d.Form, crossing.Field{Name: name, Value: value})
		if name == "code" {
			value = "(a secret, not recorded)"
		}
		shown = append(shown, name+"="+value)
	}
	d.Octets = []byte(strings.Join(shown, "\n"))
	if r.Form {
		d.Binding = "form_post"
		return d
	}
	d.Form = nil
	sep := "?"
	if strings.Contains(string(r.RedirectURI), "?") {
		sep = "&"
	}
	d.Location = string(r.RedirectURI) + sep + query.Encode()
	return d
}

// errors are what an application hears (RFC 6749 §4.1.2.1, OpenID Connect Core
// §3.1.2.6, OpenID Connect Core Error Code unmet_authentication_requirements).
var errorsOf = map[crossing.Refusal]oidc.Code{
	crossing.RefusedPassive: "login_required",
	crossing.RefusedContext: "unmet_authentication_requirements",
	crossing.RefusedName:    "access_denied",
	crossing.RefusedHops:    "access_denied",
	crossing.RefusedFailed:  "access_denied",
	crossing.RefusedDenied:  "access_denied",
	crossing.RefusedPerson:  "login_required",
	crossing.RefusedConsent: "consent_required",
	crossing.RefusedAsking:  "interaction_required",
	crossing.RefusedBusy:    "temporarily_unavailable",
	crossing.RefusedBroken:  "server_error",
}

// refusal is the plan of a response with an error.
type refusal struct {
	reply reply
	code  oidc.Code
	text  string
}

// Refuse plans a response with an error.
func (a *Application) Refuse(_ *federation.Gate, _ *federation.Application, own json.RawMessage, why crossing.Refusal,
	f *finding.Finding) crossing.Plan {
	var r reply
	if err := json.Unmarshal(own, &r); err != nil || r.RedirectURI == "" {
		return nil
	}
	p := refusal{reply: r, code: errorsOf[why], text: Heard(f)}
	switch {
	case why == crossing.RefusedRequest:
		p.code = r.Error
	case why == crossing.RefusedFailed && r.Passive:
		p.code = "login_required"
	}
	if p.code == "" {
		return nil
	}
	return p
}

// Heard is what an application hears of a finding: its title, and what is wrong with
// a request, which is its own. What else the finding rests on is for the engineer.
func Heard(f *finding.Finding) string {
	if len(f.Evidence) > 0 && (f.Code == finding.OAuthRequest || f.Code == finding.PKCEMissing ||
		f.Code == finding.ScopeGrown) {
		return plain(f.Title + ": " + said(f.Evidence[0]))
	}
	return plain(f.Title)
}

// plain is a text in the letters that an error may have (RFC 6749 §4.1.2.1).
func plain(s string) string {
	return strings.Map(func(c rune) rune {
		if c < 0x20 || c > 0x7e || c == '"' || c == '\\' {
			return '.'
		}
		return c
	}, s)
}

// Render makes it.
func (p refusal) Render(g *federation.Gate, _ crossing.Made) (crossing.Rendered, error) {
	return crossing.Rendered{Departure: p.reply.depart(g, "Authorization response", "error", string(p.code),
		"error_description", p.text)}, nil
}

// Sent says what the application is told.
func (p refusal) Sent() []federation.Value {
	return federation.Labelled("Redirect URI", string(p.reply.RedirectURI), "error", string(p.code), "error_description",
		p.text)
}

// said is a piece of evidence in a line.
func said(e finding.Evidence) string {
	if e.Expected != "" {
		return e.Label + " is " + finding.Clip(e.Found) + " instead of " + finding.Clip(e.Expected)
	}
	return e.Label + ", " + finding.Clip(e.Found)
}
