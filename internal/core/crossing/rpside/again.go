package rpside

import (
	"encoding/json"
	"net/url"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
)

// early is how long before its end an access token is not used any more.
const early = 10 * time.Second

// Reask asks about somebody again with the tokens that were kept; false if there are
// none. What comes of it is told by Step, as in a sign-in: a need, or the answer, which
// says when and how they signed in as it did then.
func (p *Provider) Reask(in crossing.In, word crossing.Answer, up crossing.Upstream) (crossing.Out, bool) {
	var k kept
	if !p.KeepTokens || json.Unmarshal(up.Data, &k) != nil || k.Access == "" || len(p.infos()) == 0 {
		return crossing.Out{}, false
	}
	t := &turn{p: p, in: in, h: heard{again: true, tenant: up.Tenant, hint: k.IDToken}}
	t.h.only = k.Only
	for _, a := range word.Attributes {
		if slices.Contains(k.Only, a.Name) {
			t.h.was = append(t.h.was, a)
		}
	}
	t.h.said = oidc.Said{Subject: up.Subject, Session: up.Session, AuthTime: word.At, Context: word.Context,
		Methods: word.Methods}
	if len(word.Authorities) > 0 {
		t.h.said.Issuer = oidc.Issuer(word.Authorities[0])
	}
	t.h.tokens = oidc.TokenAnswer{AccessToken: k.Access, RefreshToken: k.Refresh}
	if k.Ends.IsZero() || in.Now.Add(early).Before(k.Ends) {
		if !k.Ends.IsZero() {
			t.h.tokens.Life = k.Ends.Sub(in.Now)
		}
		return t.ask(), true
	}
	if k.Refresh == "" {
		return t.fail(finding.New(finding.UpstreamEnded, finding.Fact("Access token", "ended "+stamp(k.Ends)),
			finding.Fact("Refresh token", "the provider gave none; ask for offline_access, if it has that"))), true
	}
	form := url.Values{"grant_type": {"refresh_token"}, "refresh_token": {k.Refresh}}
	return t.need(p.tokenCall(form, ""), (*turn).refreshed), true
}

// refreshed takes new tokens. One that does not come again stays good (RFC 6749 §6).
func (t *turn) refreshed() crossing.Out {
	reply, _ := crossing.Fact(t.in.Facts, &crossing.Call{})
	if f := reply.Fail; f != nil {
		return t.fail(f)
	}
	r := oidc.Reply{Status: reply.Status, Type: reply.Type, Octets: reply.Octets}
	answer, err := oidc.ReadTokenAnswer(r)
	if finding.Is(err, finding.CodeRefused) {
		return t.fail(finding.New(finding.UpstreamEnded, finding.Of(err).Evidence...))
	} else if err != nil {
		return t.fail(err)
	}
	if answer.RefreshToken == "" {
		answer.RefreshToken = t.h.tokens.RefreshToken
	}
	t.h.tokens = answer
	return t.ask()
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339) }
