package oidcside

import (
	"crypto/sha256"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
)

// What is what an application asks of the gate by itself, without a browser.
type What string

// What can be asked.
const (
	AskToken      What = "token"      // RFC 6749 §3.2
	AskUserInfo   What = "userinfo"   // OpenID Connect Core §5.3
	AskIntrospect What = "introspect" // RFC 7662
	AskRevoke     What = "revoke"     // RFC 7009
	AskPush       What = "push"       // RFC 9126
)

// Caller is a request as it came in.
type Caller struct {
	Authorization string
	Query         string
	Form          string // the body
	ContentType   string
	Network       string // where it came from, for counting
	Bearer        string // AskUserInfo: the access token, in place of a form
}

// Call is such a request on its way: it moves in turns as a crossing does. Its steps stand in the order in which they
// are taken: who asks is proved before anything is looked at, what counts once is consumed whatever becomes of it, and
// what is given stands before tokens are made.
type Call struct {
	What   What
	Caller Caller
	Snap   *federation.Snapshot
	ID     string // random, of the access token and of what is kept for a service
	Now    time.Time

	// What was found out on the way.
	Form   url.Values
	App    *federation.Application
	Client *oidc.Client // as it was proved
	Proved oidc.Proved
	Method oidc.Method
	Given  *crossing.Granted    // what the request is about, once it is known
	Asking *federation.Provider // who is asked again, while they are
	Run    *crossing.Rehearsing // of a rehearsal of a service
	Checks finding.Checks

	f         crossing.Facts
	next      callStep
	came      Came
	due       []crossing.Effect // that belong to whatever comes of it, until they are stored
	presented oidc.Presented
	handles   []grant.Handle // that the form names
	by        *grant.Handle  // the code or refresh token
	exchange  *Exchange
	brought   *Brought
	issue     Issue
	guess     string // what is counted, where the client's secret may be a guess
	held      any    // of the provider's side
	lost      int    // how often somebody else was first
}

// Came is what a turn of a call came to: what it lacks, or how it ends.
type Came struct {
	Lacks   *crossing.Lacks
	Effects []crossing.Effect // to be stored together, before anything is answered or asked outside
	Issue   *Issue            // tokens are made by it
	Says    map[string]any    // what is told of a person or a token
	Refused error             // oidc.Refusal, or a fault of our own
}

type callStep func(*Call) callStep

// mostLost bounds how often a call is decided once more because somebody else was first.
const mostLost = 20

// Advance moves a call on. What it lacks is to be looked up, and it decides anew; lost is an effect whose guard
// failed.
func (c *Call) Advance(f crossing.Facts, lost crossing.Effect) Came {
	if before := c.came.Lacks; before != nil && before.Outside() && lost == nil {
		c.due = nil // it is stored
	}
	c.f, c.came = f, Came{}
	next := c.next
	switch {
	case lost != nil:
		next = c.overtaken(lost)
	case next == nil && c.What == AskUserInfo:
		next = (*Call).tells
	case next == nil:
		next = (*Call).reads
	}
	for next != nil {
		next = next(c)
	}
	if l := c.came.Lacks; l == nil || l.Outside() {
		c.came.Effects = append(slices.Clone(c.due), c.came.Effects...)
	}
	return c.came
}

func (c *Call) lack(l *crossing.Lacks, then callStep) callStep {
	c.came.Lacks, c.next = l, then
	return nil
}

func (c *Call) refuse(err error) callStep {
	c.came.Refused = err
	return nil
}

func (c *Call) wrong(code oidc.Code, e ...finding.Evidence) callStep {
	return c.refuse(oidc.Wrong(code, e...))
}

func (c *Call) side() *Application { return c.App.Side.(*Application) }

// largestForm is how much of a body is read, in octets.
const largestForm = 128 << 10

// reads takes the form apart: each parameter once, and none of value (RFC 6749 §3.2).
func (c *Call) reads() callStep {
	in := c.Caller
	if t, _, _ := strings.Cut(in.ContentType, ";"); !strings.EqualFold(strings.TrimSpace(t),
		"application/x-www-form-urlencoded") {
		return c.wrong(oidc.InvalidRequest, finding.Compare("Content-Type", "application/x-www-form-urlencoded",
			in.ContentType))
	}
	if len(in.Form) > largestForm {
		return c.wrong(oidc.InvalidRequest, finding.Fact("Cause", "the body is too large"))
	}
	if f := crossing.SecretIn(in.Query, append([]string{"code", "code_verifier", "refresh_token", "token"},
		crossing.CallSecrets...)); f != nil {
		return c.refuse(oidc.Refuse(oidc.InvalidRequest, f))
	}
	form, err := url.ParseQuery(in.Form)
	if err != nil {
		return c.wrong(oidc.InvalidRequest, finding.Fact("Cause", err.Error()))
	}
	for name, values := range form {
		form[name] = slices.DeleteFunc(values, func(v string) bool { return v == "" })
		switch {
		case len(form[name]) == 0:
			delete(form, name)
		case len(form[name]) > 1 && name != "resource":
			return c.wrong(oidc.InvalidRequest, finding.Fact("Given more than once", finding.Clip(name)))
		}
	}
	c.Form = form
	for _, name := range []string{"code", "refresh_token", "token"} {
		if h, ok := grant.ReadHandle(c.Snap.Gate.Handles, form.Get(name)); ok {
			c.handles = append(c.handles, h)
		}
	}
	return (*Call).about
}

// about finds the grant that a request names, so that whatever comes of it is told in the trace of its sign-in.
func (c *Call) about() callStep {
	for _, h := range c.handles {
		given, known := crossing.Fact(c.f, WasGiven{GrantOf(h)})
		if !known {
			return c.lack(crossing.Lack(WasGiven{GrantOf(h)}), (*Call).about)
		}
		if c.Given = given; given != nil {
			break
		}
	}
	return (*Call).presents
}

// Guessing is whether a client may try a secret that may be a guess.
type Guessing struct {
	Right bool          // it was right from this network before
	Wait  time.Duration // until it may be tried again, 0 for now
}

// MayGuess asks that: no other proof is ever locked, and no secret that was right from this network before.
type MayGuess struct {
	Client string // and network
	Sums   [][sha256.Size]byte
}

// Key is one: a call has one client.
func (MayGuess) Key() string { return "may guess" }

// Outside is false.
func (MayGuess) Outside() bool { return false }

// Gives whether it may.
func (MayGuess) Gives(Guessing) {}

// Guessed notes what a secret was, where it may have been a guess.
type Guessed struct {
	Client string
	Right  [][sha256.Size]byte // nil if it was not
}

// Effect is noted: nothing rests on it.
func (Guessed) Effect() {}

// presents finds the client that the caller says it is.
func (c *Call) presents() callStep {
	p, err := oidc.Present(c.Caller.Authorization, c.Form)
	if err != nil {
		return c.refuse(err)
	}
	c.Method, c.presented = p.Method, p
	app, ok := c.Snap.ApplicationBy(Name, string(p.ClientID))
	if !ok {
		return c.refuse(oidc.Refuse(oidc.InvalidClient, finding.New(finding.ApplicationUnknown,
			finding.Fact("client_id", finding.Clip(p.ClientID)))))
	}
	c.App = app
	if p.Guess(c.side().Client(nil)) {
		return (*Call).guesses
	}
	return (*Call).proves
}

// guesses bounds how often a secret can be guessed that the client brought along.
func (c *Call) guesses() callStep {
	key := "client " + string(c.App.ID) + " " + c.Caller.Network
	need := MayGuess{Client: key, Sums: c.presented.Sums()}
	may, known := crossing.Fact(c.f, need)
	if !known {
		return c.lack(crossing.Lack(need), (*Call).guesses)
	}
	if wait := may.Wait.Round(time.Second); may.Wait > 0 {
		return c.refuse(&oidc.Refusal{Code: oidc.Busy, Wait: wait, Finding: finding.New(finding.ClientLocked,
			finding.Fact("Network", c.Caller.Network), finding.Fact("Again in", wait.String()))})
	}
	if !may.Right {
		c.guess = key
	}
	return (*Call).proves
}

// ClientKeys asks for the keys at an application's address.
type ClientKeys struct {
	App  *federation.Application
	Anew bool // what is kept does not do
}

// Key tells both kinds apart.
func (n ClientKeys) Key() string { return fmt.Sprint("client keys ", n.Anew) }

// Outside is false: a copy is kept, and asking for it anew changes nothing else.
func (ClientKeys) Outside() bool { return false }

// Gives the keys.
func (ClientKeys) Gives(crossing.Copied) {}

// proves holds the client's proof against its keys, which are asked for again once if none fits.
func (c *Call) proves() callStep {
	c.Client = c.side().Client(nil)
	fetched := c.side().KeyAddress != "" && c.Method == oidc.SignedJWT
	var err error
	for _, anew := range []bool{false, true} {
		if fetched {
			need := ClientKeys{c.App, anew}
			copied, known := crossing.Fact(c.f, need)
			if !known {
				return c.lack(crossing.Lack(need), (*Call).proves)
			}
			if copied.Fail != nil {
				return c.refuse(oidc.Refuse(oidc.InvalidClient, copied.Fail))
			}
			more, _ := copied.Document.([]oidc.Key)
			c.Client = c.side().Client(more)
		}
		c.Proved, err = c.presented.Prove(c.Client, Issuer(&c.Snap.Gate), c.Now)
		if !fetched || !finding.Is(err, finding.TokenKey) {
			break
		}
	}
	if c.guess != "" {
		guessed := Guessed{Client: c.guess}
		if err == nil {
			guessed.Right = c.presented.Sums()
		}
		c.due = append(c.due, guessed)
	}
	if err != nil {
		return c.refuse(err)
	}
	c.Checks.Pass("Client", "proved by "+string(c.Method))
	if c.Proved.Once != "" { // whatever becomes of its request
		c.due = append(c.due, crossing.Once{Provider: "assertion", ID: string(c.App.ID) + "\x1f" + c.Proved.Once,
			Until: c.Proved.Until})
	}
	return c.asks()
}

// asks goes on with what was asked, by a client that has proved who it is.
func (c *Call) asks() callStep {
	switch token := c.Form.Get("token"); {
	case c.What == AskToken:
		return (*Call).brings
	case c.What == AskPush:
		return (*Call).pushes
	case c.What == AskIntrospect && c.Method == oidc.NoMethod:
		return c.refuse(oidc.Refuse(oidc.InvalidClient, finding.New(finding.ClientUnproved,
			finding.Fact("Method", "none: only who proves who they are may ask about tokens"))))
	case token == "":
		return c.wrong(oidc.InvalidRequest, finding.Fact("Missing", "token"))
	default:
		c.brought = Bring(c.Snap, c.App, token, c.Now)
		return map[What]callStep{AskIntrospect: (*Call).introspects, AskRevoke: (*Call).revokes}[c.What]
	}
}

// overtaken goes on after an effect whose guard failed.
func (c *Call) overtaken(lost crossing.Effect) callStep {
	if _, once := lost.(crossing.Once); once {
		c.due = nil
		return c.refuse(oidc.Refuse(oidc.InvalidClient, finding.New(finding.ClientAssertionTwice,
			finding.Fact("jti", c.Proved.Once))))
	}
	if c.lost++; c.lost >= mostLost {
		return c.refuse(oidc.Refuse(oidc.Busy, finding.New(finding.GrantTwice, finding.Fact(fieldOf(c.by),
			"is used by many at once"))))
	}
	c.f.Forget()
	return (*Call).redeems
}

// pushedLife is how long a pushed request can be used (RFC 9126 §2.2).
const pushedLife = 90 * time.Second

// PushedLife is that, for who answers.
func PushedLife() time.Duration { return pushedLife }

// largestPublic is how much is kept of a request that a client pushed who proves nothing, in octets.
const largestPublic = 4 << 10

// MayPush asks whether one more request may be pushed from a network by a client that proves nothing: anybody can push
// in its name, so what is kept is bounded.
type MayPush struct{ Network string }

// Key is one: a call pushes one request.
func (MayPush) Key() string { return "may push" }

// Outside is false.
func (MayPush) Outside() bool { return false }

// Gives whether it may.
func (MayPush) Gives(bool) {}

// HoldRequest keeps an authorization request until the browser comes with its name, which whoever stores it makes up.
type HoldRequest struct {
	App   federation.Name
	Form  string
	Until time.Time
}

// Effect has no guard: its name is random.
func (HoldRequest) Effect() {}

// pushes keeps an authorization request (RFC 9126 §2.1).
func (c *Call) pushes() callStep {
	if c.Form.Has("request_uri") {
		return c.wrong(oidc.InvalidRequest, finding.Fact("request_uri", "cannot be pushed itself"))
	}
	for _, name := range []string{"client_secret", "client_assertion", "client_assertion_type"} {
		delete(c.Form, name)
	}
	c.Form.Set("client_id", string(c.Client.ID))
	form := c.Form.Encode()
	r, err := oidc.ReadRequest(form)
	if err == nil {
		err = r.Check(c.Client)
	}
	if err != nil {
		return c.refuse(err)
	}
	if c.Method == oidc.NoMethod && len(form) > largestPublic {
		return c.wrong(oidc.InvalidRequest, finding.Fact("Cause",
			fmt.Sprintf("it has %d octets; of a client that proves nothing at most %d are kept", len(form), largestPublic)))
	}
	if may, known := crossing.Fact(c.f, MayPush{}); c.Method == oidc.NoMethod && !known {
		return c.lack(crossing.Lack(MayPush{c.Caller.Network}), (*Call).pushes)
	} else if c.Method == oidc.NoMethod && !may {
		return c.refuse(oidc.Refuse(oidc.Busy, finding.New(finding.TooManyStarts)))
	}
	c.came.Effects = append(c.came.Effects, HoldRequest{App: c.App.Name, Form: form, Until: c.Now.Add(pushedLife)})
	return nil
}
