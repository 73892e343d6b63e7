package oidcside_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
)

// telling is a provider that is asked again, by one call.
type telling struct {
	plainProvider
	out func(crossing.Facts) crossing.Out
}

func (p telling) InCrossing() crossing.Abilities { return crossing.Abilities{Reasking: p} }
func (p telling) Reask(in crossing.In, _ crossing.Answer, up crossing.Upstream) (crossing.Out, bool) {
	return p.Step(in), up.Session != "of nothing"
}
func (p telling) Step(in crossing.In) crossing.Out {
	if _, replied := crossing.Fact(in.Facts, &crossing.Call{}); !replied {
		return crossing.Out{Next: crossing.Lack(&crossing.Call{Name: "asked again"})}
	}
	return p.out(in.Facts)
}

// nameOf is the name of a kind of need or effect.
func nameOf(x any) string { return strings.SplitAfter(fmt.Sprintf("%T", x), ".")[1] }

// callWorld is what is true around a call.
type callWorld struct {
	given *crossing.Granted
	kept  *crossing.Upstream
	over  bool // the session
	tries oidcside.Guessing
	lost  []string // effects whose guard fails, in order, once each
	tells func(crossing.Facts) crossing.Out
}

// went takes a call through its turns, and tells what was lacked and stored, in order.
func (w *callWorld) went(t *testing.T, c *oidcside.Call) (came oidcside.Came, log []string) {
	f := crossing.Facts{}
	var lost crossing.Effect
	for range 200 {
		came = c.Advance(f, lost)
		lost = nil
		if came.Lacks == nil || came.Lacks.Outside() {
			var stored []string
			for _, e := range came.Effects {
				name := nameOf(e)
				stored = append(stored, name)
				if len(w.lost) > 0 && w.lost[0] == name {
					lost, w.lost = e, w.lost[1:]
				}
			}
			if log = append(log, "store "+strings.Join(stored, "+")); lost != nil {
				log = append(log, "lost")
				continue
			}
		}
		if came.Lacks == nil {
			return came, log
		}
		for _, n := range came.Lacks.Needs {
			log = append(log, nameOf(n))
			switch n := n.(type) {
			case oidcside.WasGiven:
				f.Put(n, w.given)
			case oidcside.MayGuess:
				f.Put(n, w.tries)
			case oidcside.GoesOn:
				f.Put(n, !w.over)
			case oidcside.KeptOf:
				f.Put(n, w.kept)
			case oidcside.MayPush:
				f.Put(n, false)
			case crossing.WhoIs:
				f.Put(n, person.Person{ID: 1})
			case *crossing.Call:
				f.Put(n, crossing.Called{})
			case crossing.StoredFirst:
				f.Put(n, true)
			default:
				t.Fatalf("%T", n)
			}
		}
	}
	t.Fatal("it lacks more and more")
	return came, log
}

// A request of an application is decided in one order: who asks is proved first, what counts once is consumed whatever
// comes of it, what is decided so far is stored before a provider is asked, and what is given out stands before tokens
// are made.
func TestCalls(t *testing.T) {
	secret := strings.Repeat("s", 24)
	typed := federation.Typed{"kind": "web", "clientId": "planner", "redirectUris": back, "clientSecret": secret}
	w := newWorld(t, side(t, typed, `{"authMethod":"client_secret_post"}`))
	key := w.snap.Gate.Handles
	a := word()
	a.Provider, a.ProviderID = "staff", "id-staff"
	g := grant.Grant{ID: "g", Client: w.app.ID, Person: 1, Subject: "s-1", Scopes: []string{"openid"}, Session: "lasting",
		Refreshes: true, Began: now, Code: grant.Code{RedirectURI: back, Challenge: oidc.Challenge(verifier)}}
	redeemed, err := g.Redeem(grantRedemption(w), now)
	require.NoError(t, err)
	fresh, used := &crossing.Granted{Grant: g, Word: *a}, &crossing.Granted{Grant: redeemed, Word: *a}
	byCode := url.Values{"grant_type": {"authorization_code"}, "redirect_uri": {back}, "code_verifier": {verifier},
		"client_id": {"planner"}, "client_secret": {secret}, "code": {grant.Handle{Kind: grant.CodeHandle,
			Grant: "g"}.Token(key)}}
	byRefresh := url.Values{"grant_type": {"refresh_token"}, "client_id": {"planner"}, "client_secret": {secret},
		"refresh_token": {grant.Handle{Kind: grant.RefreshHandle, Grant: "g", Number: int64(redeemed.Turn)}.Token(key)}}
	otherwise := func(form url.Values, name, value string) url.Values {
		out := url.Values{name: {value}}
		for k, v := range form {
			if k != name {
				out[k] = v
			}
		}
		return out
	}
	says := func(subject string, up *crossing.Upstream, err error) func(crossing.Facts) crossing.Out {
		return func(crossing.Facts) crossing.Out {
			if err != nil {
				return crossing.Out{Err: err}
			}
			return crossing.Out{Upstream: up, Answer: &crossing.Answer{Subject: profile.Subject{Value: subject},
				Attributes: []profile.Attribute{{Name: "given_name", Values: profile.Texts("Adele")}}}}
		}
	}
	up := &crossing.Upstream{Session: "theirs"}
	many := strings.Split(strings.Repeat("MoveGrant,", 30), ",")
	for what, c := range map[string]struct {
		w    callWorld
		what oidcside.What
		form url.Values
		want string // the code of the refusal, "" for tokens or what was asked
		log  string // what was lacked and stored, in order
	}{
		"nothing": {form: url.Values{}, want: "invalid_client", log: "store "},
		"of nobody known": {form: otherwise(byCode, "client_id", "nobody"), want: "invalid_client",
			log: "WasGiven store "},
		"twice a parameter": {form: url.Values{"code": {"a", "b"}}, want: "invalid_request", log: "store "},
		"a code": {w: callWorld{given: fresh}, form: byCode,
			log: "WasGiven MayGuess WhoIs store Guessed+MoveGrant"},
		"a code, with a secret that was right before": {w: callWorld{given: fresh, tries: oidcside.Guessing{Right: true}},
			form: byCode, log: "WasGiven MayGuess WhoIs store MoveGrant"},
		"a secret that is another one": {w: callWorld{given: fresh}, want: "invalid_client",
			form: otherwise(byCode, "client_secret", strings.Repeat("x", 24)), log: "WasGiven MayGuess store Guessed"},
		"tried too often: the right one is not looked at": {w: callWorld{given: fresh,
			tries: oidcside.Guessing{Wait: time.Minute}}, form: byCode, want: string(oidc.Busy),
			log: "WasGiven MayGuess store "},
		"a code of nothing known": {form: byCode, want: "invalid_grant", log: "WasGiven MayGuess store Guessed"},
		"a code twice: its grant ends, though it is refused": {w: callWorld{given: used}, form: byCode,
			want: "invalid_grant",
			log:  "WasGiven MayGuess store Guessed+MoveGrant"},
		"a code, while another is first": {w: callWorld{given: fresh, lost: []string{"MoveGrant"}}, form: byCode,
			log: "WasGiven MayGuess WhoIs store Guessed+MoveGrant lost WasGiven WhoIs store Guessed+MoveGrant"},
		"a code, while many are first": {w: callWorld{given: fresh, lost: many}, form: byCode, want: string(oidc.Busy)},
		"refreshed": {w: callWorld{given: used}, form: byRefresh,
			log: "WasGiven MayGuess GoesOn KeptOf WhoIs store Guessed+MoveGrant"},
		"refreshed, of a session that is over": {w: callWorld{given: used, over: true}, form: byRefresh,
			want: "invalid_grant", log: "WasGiven MayGuess GoesOn store Guessed"},
		"refreshed, with the provider asked again": {w: callWorld{given: used, kept: up, tells: says("ada", nil, nil)},
			form: byRefresh,
			log:  "WasGiven MayGuess GoesOn KeptOf store Guessed Call WhoIs store MoveGrant"},
		"refreshed, with other tokens of the provider: kept at once": {w: callWorld{given: used, kept: up,
			tells: says("ada", up, nil)}, form: byRefresh,
			log: "WasGiven MayGuess GoesOn KeptOf store Guessed Call store MoveUpstream StoredFirst WhoIs store MoveGrant"},
		"refreshed, and the provider says somebody else": {w: callWorld{given: used, kept: up, tells: says("bram", up, nil)},
			form: byRefresh, want: "invalid_grant", log: "WasGiven MayGuess GoesOn KeptOf store Guessed Call store "},
		"refreshed, and the provider vouches no more": {w: callWorld{given: used, kept: up,
			tells: says("", nil, finding.New(finding.UpstreamEnded))}, form: byRefresh, want: "invalid_grant",
			log: "WasGiven MayGuess GoesOn KeptOf store Guessed Call store "},
		"refreshed, and the provider is away": {w: callWorld{given: used, kept: up,
			tells: says("", nil, finding.New(finding.ProviderFailed))}, form: byRefresh,
			log: "WasGiven MayGuess GoesOn KeptOf store Guessed Call WhoIs store MoveGrant"},
		"refreshed, of a provider's session without tokens": {w: callWorld{given: used,
			kept: &crossing.Upstream{Session: "of nothing"}}, form: byRefresh,
			log: "WasGiven MayGuess GoesOn KeptOf WhoIs store Guessed+MoveGrant"},
		"a token taken back": {w: callWorld{given: used}, what: oidcside.AskRevoke,
			form: otherwise(byRefresh, "token", byRefresh.Get("refresh_token")),
			log:  "WasGiven MayGuess store Guessed+EndGrant"},
		"a request pushed": {what: oidcside.AskPush, form: url.Values{"client_id": {"planner"}, "client_secret": {secret},
			"response_type": {"code"}, "redirect_uri": {back}, "scope": {"openid"},
			"code_challenge":        {oidc.Challenge(verifier)},
			"code_challenge_method": {"S256"}}, log: "MayGuess store Guessed+HoldRequest"},
	} {
		t.Run(what, func(t *testing.T) {
			p := &federation.Provider{Side: telling{out: c.w.tells}}
			p.ID, p.Name, p.Phase, p.Title = "id-staff", "staff", federation.Live, "Staff"
			if c.what == "" {
				c.what = oidcside.AskToken
			}
			if c.w.given != nil {
				given := *c.w.given
				c.w.given = &given
			}
			call := &oidcside.Call{What: c.what, Snap: w.snap.With(p), ID: "r", Now: now.Add(time.Second),
				Caller: oidcside.Caller{Form: c.form.Encode(), ContentType: "application/x-www-form-urlencoded"}}
			came, log := c.w.went(t, call)
			if c.log != "" {
				require.Equal(t, c.log, strings.Join(log, " "))
			}
			if c.want != "" {
				require.Error(t, came.Refused)
				require.Equal(t, c.want, string(oidc.RefusalOf(came.Refused).Code), "%v", came.Refused)
				require.Nil(t, came.Issue, "nothing is given with a refusal")
				return
			}
			require.NoError(t, came.Refused)
			if c.what != oidcside.AskToken {
				return
			}
			moved := came.Effects[len(came.Effects)-1].(oidcside.MoveGrant)
			require.Equal(t, came.Issue.Grant, moved.Next.Grant, "what is given out is what is kept")
			if c.w.tells != nil && call.Checks[len(call.Checks)-1].Finding == nil {
				require.Equal(t, "Adele", profile.Joined(profile.Find(moved.Next.Word.Attributes, "given_name")))
			}
		})
	}
}

// What a client may use once is consumed also where its request is refused; whoever comes with it again is nobody.
func TestAssertionsOfClientsCountOnce(t *testing.T) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := oidc.NewSigner(private)
	require.NoError(t, err)
	keys, err := oidc.WriteKeys([]oidc.Key{signer.Key()})
	require.NoError(t, err)
	w := newWorld(t, side(t, federation.Typed{"kind": "web", "clientId": "planner", "redirectUris": back,
		"jwks": string(keys)}, ""))
	assertion, err := signer.Sign(oidc.IDToken, map[string]any{"iss": "planner", "sub": "planner", "aud": base,
		"exp": now.Add(time.Minute).Unix(), "jti": "once"})
	require.NoError(t, err)
	form := url.Values{"client_assertion_type": {"urn:ietf:params:oauth:client-assertion-type:jwt-bearer"},
		"client_assertion": {assertion}, "grant_type": {"password"}}
	call := func() *oidcside.Call {
		return &oidcside.Call{What: oidcside.AskToken, Snap: w.snap, Now: now,
			Caller: oidcside.Caller{Form: form.Encode(), ContentType: "application/x-www-form-urlencoded"}}
	}
	came, log := (&callWorld{}).went(t, call())
	require.Equal(t, "unsupported_grant_type", string(oidc.RefusalOf(came.Refused).Code), "%v", came.Refused)
	require.Equal(t, []string{"store Once"}, log)
	came, _ = (&callWorld{lost: []string{"Once"}}).went(t, call())
	require.True(t, finding.Is(came.Refused, finding.ClientAssertionTwice), "%v", came.Refused)
}
