package rpside

import (
	"net/url"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
)

// start is that a provider sends somebody to sign in (OpenID Connect Core §4).
type start struct{ issuer oidc.Issuer }

// at gives an arrival at a provider's own address. A record of another protocol has no
// address here, so that its name is not known.
func at(name, message, binding, form string) *crossing.Arrival {
	a := &crossing.Arrival{From: crossing.Provider, Name: message, Binding: binding,
		Says: []finding.Evidence{finding.Fact("Name", finding.Clip(name))}}
	if q, err := url.ParseQuery(form); err == nil {
		a.Octets = []byte(lines(q))
	}
	a.Whose = func(s *federation.Snapshot) (federation.Name, bool) {
		p, ok := s.Provider(federation.Name(name))
		if !ok {
			return "", false
		}
		_, is := p.Side.(*Provider)
		return p.Name, is
	}
	return a
}

// formPost is the binding of a response that was posted (Form Post Response Mode).
const formPost = "form_post"

// Answer takes an authorization response in, as the query or, posted, the form that it
// came in. name is the provider at whose address it arrived.
func Answer(name, form string, posted bool) *crossing.Arrival {
	a := at(name, "Authorization response", map[bool]string{true: formPost, false: "query"}[posted], form)
	r, err := oidc.ReadAnswered(form)
	if err != nil {
		a.Broken = err
		return a
	}
	a.Message, a.State, a.Handles = r, "", []string{r.State}
	return a
}

// Start takes in that a provider sends somebody to sign in: iss, and where to.
func Start(name, form string) *crossing.Arrival {
	a := at(name, "Initiate login", "redirect", form)
	q, err := url.ParseQuery(form)
	if err != nil || len(q["iss"]) > 1 || len(q["target_link_uri"]) > 1 {
		a.Broken = finding.New(finding.AnswerMalformed, finding.Fact("Given more than once, or unreadable",
			"iss or target_link_uri"))
		return a
	}
	a.Message, a.State = start{oidc.Issuer(q.Get("iss"))}, q.Get("target_link_uri")
	return a
}
