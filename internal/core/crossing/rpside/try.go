package rpside

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
)

// Try is an authorization request that asks nothing of anybody: a provider that knows
// the gate answers it at the redirect URI, or shows where people sign in.
func (p *Provider) Try(g *federation.Gate, r *federation.Provider, id string) string {
	if len(p.Missing()) > 0 {
		return ""
	}
	q := oidc.Asking{ClientID: p.ClientID, RedirectURI: oidc.RedirectURI(RedirectURI(g, r.Name)),
		ResponseType: p.responseType(),
		Scopes:       p.scopes(), State: id, More: p.compiled.more}
	if !p.plain() {
		q.Nonce, q.Prompts = derived(g, "nonce", id), []string{"none"}
	}
	if !p.WithoutPKCE && p.ResponseType != idTokenOnly {
		q.Verifier = derived(g, "verifier", id)
	}
	return q.Address(p.Doc.Authorize)
}

// titled finds what a page is called.
var titled = regexp.MustCompile(`(?is)<title[^>]*>(.*?)</title>`)

// Tried says what came of it. That somebody would have to sign in is what is hoped for.
func (p *Provider) Tried(g *federation.Gate, r *federation.Provider, reply federation.Reply) *finding.Finding {
	if reply.Status >= 400 {
		f := finding.New(finding.RequestRefused, finding.Fact("HTTP status", fmt.Sprint(reply.Status)),
			finding.Fact("Redirect URI", RedirectURI(g, r.Name)), finding.Fact("Client ID", p.ClientID))
		if m := titled.FindSubmatch(reply.Octets); m != nil {
			f = f.With(finding.Fact("Title of the page", finding.Clip(strings.TrimSpace(string(m[1])))))
		}
		return f
	}
	back, query, ok := strings.Cut(reply.Location, "?")
	if !ok || back != RedirectURI(g, r.Name) {
		return nil // where people sign in
	}
	q, err := url.ParseQuery(query)
	if err != nil {
		return finding.New(finding.AnswerMalformed, finding.Fact("Cause", err.Error()))
	}
	f := oidc.Answered{Error: q.Get("error"), Description: q.Get("error_description")}.Refused()
	if f == nil || f.Code == finding.PassiveImpossible {
		return nil
	}
	return f
}
