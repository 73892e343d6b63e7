package standin

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"
)

// clientFault is a way in which an OpenID Connect application can misbehave: in its
// request, when it redeems the code, or afterwards.
type clientFault struct {
	Fault
	ask    func(c *Client, q url.Values)
	redeem func(q *call)
	after  func(ctx context.Context, q *call, got tokens) error
}

var clientFaults = []clientFault{
	{Fault: Fault{"redirect-slash", "the redirect URI differs by a slash", "redirect-uri-unregistered"},
		ask: func(_ *Client, q url.Values) { q.Set("redirect_uri", q.Get("redirect_uri")+"/") }},
	{Fault: Fault{"redirect-elsewhere", "the redirect URI is somebody else's", "redirect-uri-unregistered"},
		ask: func(_ *Client, q url.Values) { q.Set("redirect_uri", "https://somebody-else.example/callback") }},
	{Fault: Fault{"no-redirect", "there is no redirect URI", "oauth-request"},
		ask: func(_ *Client, q url.Values) { q.Del("redirect_uri") }},
	{Fault: Fault{"unknown-client", "the client ID differs by a letter", "application-unknown"},
		ask: func(_ *Client, q url.Values) { q.Set("client_id", q.Get("client_id")+"l") }},
	{Fault: Fault{"no-pkce", "there is no code challenge", "pkce-missing"}, ask: func(_ *Client, q url.Values) {
		q.Del("code_challenge")
		q.Del("code_challenge_method")
	}, redeem: func(q *call) { q.form.Del("code_verifier") }},
	{Fault: Fault{"plain-pkce", "the code challenge is the verifier itself", "pkce-missing"},
		ask: func(_ *Client, q url.Values) { q.Set("code_challenge_method", "plain") }},
	{Fault: Fault{"twice", "a parameter comes twice", "oauth-request"},
		ask: func(_ *Client, q url.Values) { q.Add("scope", "openid") }},
	{Fault: Fault{"implicit", "tokens are wanted through the browser", "oauth-request"},
		ask: func(_ *Client, q url.Values) { q.Set("response_type", "id_token token") }},
	{Fault: Fault{"request-object", "the request is in a JWT", "oauth-request"},
		ask: func(_ *Client, q url.Values) { q.Set("request", "eyJhbGciOiJub25lIn0.e30.") }},
	{Fault: Fault{"none-and-login", "prompt contradicts itself", "oauth-request"},
		ask: func(_ *Client, q url.Values) { q.Set("prompt", "none login") }},
	{Fault: Fault{"foreign-hint", "the ID token that names the person is somebody else's", "oauth-request"},
		ask: func(_ *Client, q url.Values) { q.Set("id_token_hint", "eyJhbGciOiJSUzI1NiJ9.eyJzdWIiOiJlZGRhIn0.AAAA") }},
	{Fault: Fault{"foreign-resource", "the access token is wanted for an API that is not on record", "oauth-request"},
		ask: func(_ *Client, q url.Values) { q.Set("resource", "https://somebody-else.example/") }},
	{Fault: Fault{"wrong-verifier", "the code verifier is another one", "pkce-other"},
		redeem: func(q *call) { q.form.Set("code_verifier", secretText()) }},
	{Fault: Fault{"wrong-redirect", "the code is redeemed with another redirect URI", "grant-other"},
		redeem: func(q *call) { q.form.Set("redirect_uri", "https://somebody-else.example/callback") }},
	{Fault: Fault{"code-twice", "the code is redeemed twice", "grant-twice"}, redeem: func(q *call) { q.again = true }},
	{Fault: Fault{"code-altered", "a letter of the code is another one", "grant-other"},
		redeem: func(q *call) { q.form.Set("code", q.form.Get("code")+"A") }},
	{Fault: Fault{"wrong-secret", "the client secret is another one", "client-secret-other"},
		redeem: func(q *call) { q.secret += "x" }},
	{Fault: Fault{"secret-name", "the name of the secret is sent instead of the secret", "client-secret-other"},
		redeem: func(q *call) { q.secret = "planner-secret-2026" }},
	{Fault: Fault{"both-methods", "the secret is sent in the header and in the form", "oauth-request"},
		redeem: func(q *call) { q.inForm = true }},
	{Fault: Fault{"secret-in-address", "the secret stands in the address", "oauth-request"},
		redeem: func(q *call) { q.query = "?client_secret=" + url.QueryEscape(q.secret) }},
	{Fault: Fault{"password", "a password is sent instead of a code", "oauth-request"},
		redeem: func(q *call) { q.form.Set("grant_type", "password") }},
	{Fault: Fault{"refresh-twice", "a refresh token is used that was replaced long ago", "grant-twice"},
		after: refreshTwice},
	{Fault: Fault{"scope-grows", "more scopes are wanted when refreshing", "scope-grown"},
		after: func(ctx context.Context, q *call, got tokens) error {
			_, err := q.refresh(ctx, got, "scope", got.Scope+" phone")
			return wanted(err)
		}},
	{Fault: Fault{"id-token-as-access", "the ID token is sent to the user-info address", "token-kind"},
		redeem: func(q *call) { q.bearer = func(t tokens) string { return t.IDToken } }},
}

// refreshTwice refreshes three times, and then once more with the first token.
func refreshTwice(ctx context.Context, q *call, got tokens) error {
	first := got
	for range 2 {
		next, err := q.refresh(ctx, got)
		if err != nil {
			return err
		}
		got = next
	}
	_, err := q.refresh(ctx, first)
	return wanted(err)
}

// wanted is the error that a fault should come to.
func wanted(err error) error {
	if err == nil {
		return errors.New("the gate let this fault pass")
	}
	return fmt.Errorf("refreshing: %w", err)
}

func (q *call) refresh(ctx context.Context, got tokens, more ...string) (tokens, error) {
	r := *q
	r.form = url.Values{"grant_type": {"refresh_token"}, "refresh_token": {got.RefreshToken}}
	for i := 0; i+1 < len(more); i += 2 {
		r.form.Set(more[i], strings.TrimSpace(more[i+1]))
	}
	return r.send(ctx)
}

// ClientFaults are the faults of a stand-in OpenID Connect application.
func ClientFaults() (out []Fault) {
	for _, f := range clientFaults {
		out = append(out, f.Fault)
	}
	return out
}

func clientFaultOf(name string) clientFault {
	for _, f := range clientFaults {
		if f.Name == name {
			return f
		}
	}
	return clientFault{}
}
