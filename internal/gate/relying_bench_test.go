package gate

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/url"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/crossing/rpside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/records"
)

// reliedBench is a sign-in by an OpenID provider as far as it is computation: an answer
// with its tokens and what the user-info address says, again and again.
type reliedBench struct {
	*rig
	snap  *federation.Snapshot
	start crossing.State
	form  string
	reply map[string][]byte // by the name of the call
	keys  []oidc.Key
	who   map[string]person.Person
}

func newReliedBench(b *testing.B, app, scopes string) *reliedBench {
	r, _ := benchClients(b, 1)
	const issuer = "https://accounts.oakhollow.example"
	_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "oakhollow", Protocol: "oidc",
		Source: records.Source{
			Typed: federation.Typed{"issuer": issuer, "authorize": issuer + "/a", "token": issuer + "/t",
				"userinfo": issuer + "/u",
				"jwksUri":  issuer + "/k", "clientId": "gate", "clientSecret": "a-secret"}}})
	require.NoError(b, err)
	_, err = r.Records.Configure(ctx, tester, "application", "planner", 0, federation.Settings{"provider": "oakhollow"})
	require.NoError(b, err)
	x := &reliedBench{rig: r, snap: r.Snapshot(), keys: []oidc.Key{{ID: "k", Algorithm: "RS256",
		Public: r.idp.Certificate.Public}}}
	e := crossing.Event{Kind: crossing.Opened, App: app, Via: "oakhollow"}
	if app == "planner" {
		e = crossing.Event{Kind: crossing.Arrived, Arrival: oidcside.Request(params("scope", scopes), false, false)}
	}
	turn := crossing.Advance(x.snap, crossing.State{}, e, crossing.Facts{New: "1"}, r.clock.get())
	leave, ok := turn.Next.(*crossing.Leave)
	require.True(b, ok, "%+v", turn.Finding)
	made, err := leave.Plan.Render(&x.snap.Gate, crossing.Made{Random: rand.Reader, Now: r.clock.get()})
	require.NoError(b, err)
	u, err := url.Parse(made.Location)
	require.NoError(b, err)
	x.start = turn.State.Resting()
	x.start.Browser.Secret, x.start.Kept = []byte("mine"), true
	x.form = url.Values{"code": {"c"}, "state": {u.Query().Get("state")}, "iss": {issuer}}.Encode()
	claims := map[string]any{"iss": issuer, "aud": "gate", "sub": "mina", "nonce": u.Query().Get("nonce"),
		"iat": r.clock.get().Unix(), "exp": r.clock.get().Unix() + 300, "auth_time": r.clock.get().Unix()}
	text := func(v any) string {
		octets, err := json.Marshal(v)
		require.NoError(b, err)
		return base64.RawURLEncoding.EncodeToString(octets)
	}
	token := text(map[string]any{"alg": "RS256", "kid": "k"}) + "." + text(claims)
	sum := sha256.Sum256([]byte(token))
	signature, err := r.idp.Signer().Sign(rand.Reader, sum[:], crypto.SHA256)
	require.NoError(b, err)
	token += "." + base64.RawURLEncoding.EncodeToString(signature)
	tokens, err := json.Marshal(map[string]any{"access_token": "a", "token_type": "Bearer", "id_token": token})
	require.NoError(b, err)
	x.reply = map[string][]byte{"Token request": tokens, "User-info request": []byte(`{"sub":"mina","name":"Mina Thorne",
		"given_name":"Mina","family_name":"Thorne","email":"mina.thorne@oakhollow.example","email_verified":true,
		"groups":["signalling","on-call"]}`)}
	p, _ := x.snap.Provider("oakhollow")
	x.who = map[string]person.Person{person.LinkKey(p.ID, profile.Subject{Value: "mina"}): {ID: 1, Identifier: "i",
		Subject: "s"}}
	return x
}

// once judges the answer and makes what the application gets.
func (x *reliedBench) once(b *testing.B) crossing.Issue {
	e := crossing.Event{Kind: crossing.Arrived, Browser: crossing.Browser{Secret: []byte("mine")},
		Arrival: rpside.Answer("oakhollow", x.form, false)}
	f := crossing.Facts{New: "n"}
	f.Put(crossing.WasUsed{}, false)
	for link, p := range x.who {
		f.Put(crossing.WhoIs{Link: link}, p)
	}
	turn := crossing.Advance(x.snap, x.start, e, f, x.clock.get())
	for range 8 {
		lacks, more := turn.Next.(*crossing.Lacks)
		if !more {
			break
		}
		switch n := lacks.Needs[0].(type) {
		case crossing.CopyOf:
			f.Put(n, crossing.Copied{Document: x.keys})
		case *crossing.Call:
			_, err := n.Plan.Render(&x.snap.Gate, crossing.Made{Random: rand.Reader, Now: x.clock.get(),
				Secret: func(string) (string, error) { return "a-secret", nil }})
			require.NoError(b, err)
			f.Put(n, crossing.Called{Octets: x.reply[n.Name], Status: 200, Type: "application/json"})
		}
		e.Kind = crossing.Learned
		turn = crossing.Advance(x.snap, turn.State, e, f, x.clock.get())
	}
	leave, ok := turn.Next.(*crossing.Leave)
	require.True(b, ok, "%+v", turn.Finding)
	_, err := leave.Plan.Render(&x.snap.Gate, crossing.Made{Random: rand.Reader, Now: x.clock.get()})
	require.NoError(b, err)
	return leave.Plan.(crossing.Issuing).Issues()
}

// OpenID Connect to SAML, as far as it is computation.
func BenchmarkReliedToSAML(b *testing.B) {
	x := newReliedBench(b, "roster", "")
	for b.Loop() {
		x.once(b)
	}
}

// OpenID Connect to OpenID Connect with ES256 and a JWT for an access token.
func BenchmarkReliedToClient(b *testing.B) {
	x := newReliedBench(b, "planner", "openid profile email groups")
	app, _ := x.snap.Application("planner")
	side := app.Side.(*oidcside.Application)
	for b.Loop() {
		next, err := x.once(b).Grant.Redeem(grant.Redemption{Client: app.ID, RedirectURI: plannerBack, Verifier: verifierOf},
			x.clock.get())
		require.NoError(b, err)
		_, err = side.Tokens(oidcside.Issue{Gate: &x.snap.Gate, Grant: next, Word: &crossing.Answer{}, Scopes: next.Scopes,
			Turn: 1, First: true, ID: "r", Now: x.clock.get()})
		require.NoError(b, err)
	}
}

// The floor under OpenID Connect to SAML: one RSA verification and one RSA signature.
func BenchmarkReliedToSAMLFloor(b *testing.B) {
	r := newRigFor(b)
	sum := sha256.Sum256(nil)
	signed, err := r.idp.Signer().Sign(nil, sum[:], crypto.SHA256)
	require.NoError(b, err)
	for b.Loop() {
		require.NoError(b, rsa.VerifyPKCS1v15(r.idp.Certificate.Public.(*rsa.PublicKey), crypto.SHA256, sum[:], signed))
		_, err := r.idp.Signer().Sign(nil, sum[:], crypto.SHA256)
		require.NoError(b, err)
	}
}
