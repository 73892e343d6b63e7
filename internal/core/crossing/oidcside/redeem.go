package oidcside

import (
	"errors"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/profile"
)

// The part of a call that gives out tokens, or takes them back.

// MoveGrant keeps the next value of a grant. Its guard: it is at the revision that was decided on.
type MoveGrant struct {
	From int
	Next crossing.Granted
}

// EndGrant ends a grant. There is no guard: one that has ended stays so.
type EndGrant struct {
	Grant string
	Why   grant.Ending
}

// PutGrant keeps what a service was given, whose token says nothing itself. There is no guard: its ID is random.
type PutGrant struct {
	Grant grant.Grant
	Until time.Time
}

// TakeBack remembers that an access token gives nothing any more. There is no guard: taken back once is enough.
type TakeBack struct {
	Token string // its name (jti)
	Until time.Time
}

// MoveUpstream keeps what a provider gave when it was asked again: what it gave before may count no more. There is no
// guard: one at a time asks about a session.
type MoveUpstream struct {
	Session  string
	Provider federation.ID
	Upstream crossing.Upstream
}

// Effect is stored, as the others here.
func (MoveGrant) Effect() {}

// Effect is stored.
func (EndGrant) Effect() {}

// Effect is stored.
func (PutGrant) Effect() {}

// Effect is stored.
func (TakeBack) Effect() {}

// Effect is stored.
func (MoveUpstream) Effect() {}

// fieldOf is the parameter in which a code or refresh token comes.
func fieldOf(h *grant.Handle) string {
	if h.Kind == grant.CodeHandle {
		return "code"
	}
	return "refresh_token"
}

// brings reads what a token request brings.
func (c *Call) brings() callStep {
	c.exchange = &Exchange{Gate: &c.Snap.Gate, App: c.App, Form: c.Form, ID: c.ID, Now: c.Now}
	h, err := c.exchange.Brings()
	switch {
	case err != nil:
		return c.refuse(err)
	case h == nil:
		return (*Call).serves
	}
	c.by = h
	return (*Call).redeems
}

// RunNamed asks which run of a rehearsal a value names, nil for none: a service has no browser that could be marked.
type RunNamed struct{ Value string }

// Key is one: a request names one run.
func (RunNamed) Key() string { return "run named" }

// Outside is false.
func (RunNamed) Outside() bool { return false }

// Gives the run.
func (RunNamed) Gives(*crossing.Rehearsing) {}

// rehearsed is the parameter by which the token request of a service belongs to a run of a rehearsal.
const rehearsed = "rehearsal"

// serves gives a service a token of its own. A request that names a run of the service passes over its phase.
func (c *Call) serves() callStep {
	if value := c.Form.Get(rehearsed); value != "" && c.Run == nil {
		run, known := crossing.Fact(c.f, RunNamed{})
		if !known {
			return c.lack(crossing.Lack(RunNamed{value}), (*Call).serves)
		}
		if run == nil || !c.App.Is(run.App, run.AppID) {
			return c.refuse(oidc.Refuse(oidc.InvalidRequest, finding.New(finding.RehearsalOver)))
		}
		c.Run, c.Snap = run, c.Snap.Rehearsing(c.App)
		c.App, _ = c.Snap.Application(run.App)
		c.exchange.App = c.App
	}
	is, keeps, err := c.exchange.Service()
	if err != nil {
		return c.refuse(err)
	}
	if keeps {
		c.came.Effects = append(c.came.Effects, PutGrant{Grant: is.Grant, Until: c.Now.Add(c.side().AccessLife())})
	}
	c.came.Issue = &is
	return nil
}

// redeems decides on the grant of a code or refresh token. The request may name something else beside it, of another
// sign-in.
func (c *Call) redeems() callStep {
	need := WasGiven{c.by.Grant}
	given, known := crossing.Fact(c.f, need)
	if !known {
		return c.lack(crossing.Lack(need), (*Call).redeems)
	}
	if c.Given = given; given == nil {
		return c.refuse(oidc.Refuse(oidc.InvalidGrant, finding.New(finding.GrantExpired, finding.Fact(fieldOf(c.by),
			"is not known any more"))))
	}
	c.Snap, c.App = opened(c.Snap, c.App, given)
	c.exchange.App, c.exchange.Checks = c.App, nil
	is, lacks, err := c.exchange.Next(*c.by, given, c.f)
	if lacks != nil {
		return c.lack(lacks, (*Call).redeems)
	}
	c.Checks = append(c.Checks, c.exchange.Checks...)
	c.issue = is
	if oidc.RefusalOf(err) != nil {
		c.moves() // what comes twice ends it
	}
	if err != nil {
		return c.refuse(err)
	}
	if c.by.Kind == grant.RefreshHandle {
		return (*Call).asksAgain
	}
	return (*Call).renews
}

// opened is the configuration that what was given in a rehearsal goes by, and the application in it: its phases are
// passed over as long as the run goes on, with which everything ends that was given.
func opened(snap *federation.Snapshot, app *federation.Application, k *crossing.Granted) (*federation.Snapshot,
	*federation.Application) {
	if k == nil || k.Run == "" || app == nil || app.ID != k.Client {
		return snap, app
	}
	snap = snap.Rehearsing(app, k.Word.Provider)
	app, _ = snap.Application(app.Name)
	return snap, app
}

// moves keeps the next value of the grant, if it is another one.
func (c *Call) moves() {
	if c.issue.Grant.Revision == c.Given.Revision {
		return
	}
	next := *c.Given
	next.Grant = c.issue.Grant
	c.came.Effects = append(c.came.Effects, MoveGrant{From: c.Given.Revision, Next: next})
}

// KeptOf asks what was kept of a provider's word in a session, nil for nothing. Whoever looks it up lets one at a time
// ask about a session, for refresh tokens of providers count once, too.
type KeptOf struct {
	Session  string
	Provider federation.ID
}

// Key is one: a grant rests on one word.
func (KeptOf) Key() string { return "kept of a provider" }

// Outside is false.
func (KeptOf) Outside() bool { return false }

// Gives what was kept.
func (KeptOf) Gives(*crossing.Upstream) {}

// asksAgain has the provider tell again of whoever a grant is about, where its tokens were kept for that. A provider
// that no longer vouches for them ends the refresh; one that cannot be reached does not: what it said before still
// counts.
func (c *Call) asksAgain() callStep {
	word := c.Given.Word
	p, ok := c.Snap.Provider(word.Provider)
	if !ok || !p.Is(word.Provider, word.ProviderID) || crossing.Of(p.Side).Reasking == nil {
		return (*Call).renews
	}
	need := KeptOf{Session: c.Given.Session, Provider: p.ID}
	up, known := crossing.Fact(c.f, need)
	if !known {
		return c.lack(crossing.Lack(need), (*Call).asksAgain)
	}
	if up == nil {
		return (*Call).renews
	}
	c.Asking = p
	out, asks := crossing.Of(p.Side).Reasking.Reask(c.in(), word, *up)
	if !asks {
		return (*Call).renews
	}
	return c.heard(out)
}

// in is what the provider's side goes by.
func (c *Call) in() crossing.In {
	return crossing.In{Gate: &c.Snap.Gate, Provider: c.Asking, Mine: true, Now: c.Now, Facts: c.f, Held: c.held}
}

// hears has the provider's side go on with what it lacked.
func (c *Call) hears() callStep {
	return c.heard(c.Asking.Side.(crossing.ProviderSide).Step(c.in()))
}

// heard goes on with what a step of the provider's side came to.
func (c *Call) heard(out crossing.Out) callStep {
	c.held = out.Held
	lacks, lacking := out.Next.(*crossing.Lacks)
	f := finding.Of(out.Err)
	switch {
	case out.Answer != nil:
		return c.toldAgain(out)
	case finding.Is(out.Err, finding.UpstreamEnded):
		return c.refuse(oidc.Refuse(oidc.InvalidGrant, f))
	case out.Err != nil && f == nil:
		return c.refuse(out.Err)
	case out.Err != nil:
		c.Checks.Note("Provider", f)
		return (*Call).renews
	case !lacking:
		return c.refuse(errors.New("a provider's side wants a browser where there is none"))
	}
	return c.lack(lacks, (*Call).hears)
}

// toldAgain takes what the provider says now: it is kept with the grant when that moves on, and its tokens beside the
// session at once.
func (c *Call) toldAgain(out crossing.Out) callStep {
	was, is := c.Given.Word.Subject.Value, out.Answer.Subject.Value
	if was != is {
		return c.refuse(oidc.Refuse(oidc.InvalidGrant, finding.New(finding.GrantUnlinked, finding.Compare("Name", was,
			is))))
	}
	given := *c.Given
	given.Word.Attributes, given.Word.Read = out.Answer.Attributes, ""
	given.Word = *crossing.Kept(c.Asking, &given.Word)
	c.Given, c.issue.Word = &given, &given.Word
	c.Checks.Pass("Provider", "asked again: "+string(c.Asking.Name))
	if out.Upstream == nil {
		return (*Call).renews
	}
	c.due = append(c.due, MoveUpstream{Session: given.Session, Provider: c.Asking.ID, Upstream: *out.Upstream})
	return c.lack(crossing.Lack(crossing.StoredFirst{}), (*Call).renews)
}

// renews decides whether somebody may still be told of, and what. A grant whose provider the application does not use
// any more ends: it gives nothing either should that be taken back.
func (c *Call) renews() callStep {
	told, lacks, err := crossing.Renew(c.Snap, renewal(c.f, c.App, c.Given), c.Now)
	if lacks != nil {
		return c.lack(lacks, (*Call).renews)
	}
	f := finding.Of(err)
	if f != nil && f.Code == finding.GrantProvider {
		c.came.Effects = append(c.came.Effects, EndGrant{Grant: c.Given.ID, Why: grant.Moved})
	}
	if f != nil {
		return c.refuse(oidc.Refuse(oidc.InvalidGrant, f))
	} else if err != nil {
		return c.refuse(err)
	}
	return c.issues(told)
}

// issues decides what is given out: it is kept before the tokens are made.
func (c *Call) issues(told profile.Released) callStep {
	c.issue.Attrs = told.Attributes
	c.moves()
	c.came.Issue = &c.issue
	return nil
}

// introspects says what a token is good for.
func (c *Call) introspects() callStep {
	says, lacks, err := c.brought.Introspect(c.f)
	c.Given = c.brought.given(c.f, c.Given)
	if lacks != nil {
		return c.lack(lacks, (*Call).introspects)
	}
	c.came.Says, c.came.Refused = says, err
	return nil
}

// tells says what a token lets know of a person.
func (c *Call) tells() callStep {
	if c.Caller.Bearer == "" {
		return c.wrong(oidc.InvalidToken, finding.Fact("Missing", "an access token as Authorization: Bearer"))
	}
	if c.brought == nil {
		c.brought = Bring(c.Snap, nil, c.Caller.Bearer, c.Now)
	}
	c.App, _ = c.brought.Whose(c.f)
	c.Given = c.brought.given(c.f, c.Given)
	says, lacks, err := c.brought.UserInfo(c.f)
	if lacks != nil {
		return c.lack(lacks, (*Call).tells)
	}
	c.came.Says, c.came.Refused = says, err
	return nil
}

// revokes takes back what is decided to be.
func (c *Call) revokes() callStep {
	taken, lacks, err := c.brought.Revoke(c.f)
	c.Given = c.brought.given(c.f, c.Given)
	switch {
	case lacks != nil:
		return c.lack(lacks, (*Call).revokes)
	case err != nil:
		return c.refuse(err)
	case taken.Grant != "":
		c.came.Effects = append(c.came.Effects, EndGrant{Grant: taken.Grant, Why: grant.Revoked})
	case taken.Token != "":
		c.came.Effects = append(c.came.Effects, TakeBack{Token: taken.Token, Until: taken.Until})
	}
	return nil
}
