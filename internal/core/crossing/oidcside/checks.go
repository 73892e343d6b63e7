package oidcside

import (
	"net/url"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/oidc"
)

// secretAhead is how long ahead the end of a secret is told of.
const secretAhead = 30 * day

// Checks looks at what only OpenID Connect applications have. What can never work
// (addresses, methods and kinds that do not fit) is refused when it is saved.
func (a *Application) Checks(c *checks.Checker, r federation.Record, l *checks.List) {
	if a.WithoutPKCE {
		l.Add(finding.New(finding.ExceptionInForce, finding.Fact("Setting", "withoutPKCE")))
	}
	here := false // the gate itself is on the machine, for trying out
	if u, err := url.Parse(c.Snap.Gate.Base); err == nil {
		here = oidc.Loopback(u.Hostname())
	}
	for _, address := range a.RedirectURI {
		u, err := url.Parse(string(address))
		if _, unfit := oidc.ParseRedirectURI(a.ClientKind,
			string(address)); unfit != nil { // it was taken in by an earlier build
			l.Add(finding.New(finding.ClientMetadata, finding.Fact("redirect_uris", unfit.Error())))
		}
		if err == nil && a.ClientKind != oidc.Native && (!here && oidc.Loopback(u.Hostname()) ||
			oidc.Localhost(u.Hostname())) {
			l.Add(finding.New(finding.RedirectLoopback, finding.Fact("Redirect URI", address)))
		} else if err == nil && u.Scheme+"://"+u.Host == c.Snap.Gate.Base {
			l.Add(finding.New(finding.RedirectUnregistered, finding.Compare("Redirect URI", "an address of the application",
				address+", which is the gate's own")))
		}
	}
	for _, k := range a.keys {
		if k.Use == "" && strings.HasPrefix(a.KeyText, "{") {
			l.Add(finding.New(finding.JWKWithoutUse, finding.Fact("Key", keys.Describe(k.Public)), finding.Fact("kid", k.ID)))
		}
	}
	if len(a.Demands) > 0 {
		l.Add(finding.New(finding.ClientDemands, finding.Fact("Members", strings.Join(a.Demands, ", "))))
	}
	a.secretEnds(c.Now, l)
	c.Keys(l, a.Keys(), false)
	c.BothSides(l, r.(*federation.Application))
}

// Ends is when its newest secret ends.
func (a *Application) Ends() time.Time {
	if !a.bySecret() || len(a.Secrets) == 0 {
		return time.Time{}
	}
	return a.Secrets[len(a.Secrets)-1].Expires
}

// secretEnds tells of a secret that has no successor and ends.
func (a *Application) secretEnds(now time.Time, l *checks.List) {
	if !a.bySecret() || len(a.Secrets) == 0 {
		return
	}
	last := a.Secrets[len(a.Secrets)-1].Expires
	left := finding.Left(last.Sub(now))
	switch {
	case last.IsZero():
	case !now.Before(last):
		l.Add(finding.New(finding.SecretEnded, finding.Fact("Ended", last.Format(time.RFC3339))))
	case last.Sub(now) < secretAhead:
		l.Add(finding.New(finding.SecretEnding, finding.Fact("Ends", last.Format(time.RFC3339)), left))
	}
}
