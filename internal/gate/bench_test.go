package gate

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// benchRig makes a gate with so many applications.
func benchRig(b *testing.B, applications int) *rig {
	r := newRigFor(b)
	snap := r.Records.Snapshot()
	var apps records.Plan
	for i := len(snap.Applications()); i < applications; i++ {
		a := &federation.Application{Side: &samlside.Application{SP: &saml.SP{EntityID: saml.EntityID(fmt.Sprint("urn:app-",
			i))}}}
		a.Name = federation.Name(fmt.Sprint("app-", i))
		apps.Put = append(apps.Put, records.Put{Object: a, Quiet: true, Judged: true})
	}
	r.carryOut(b, apps)
	return r
}

func (r *rig) carryOut(b *testing.B, p records.Plan) {
	require.NoError(b, r.Records.Change(ctx, tester, func(*federation.Snapshot) (records.Plan, error) { return p, nil }))
}

// A whole crossing: AuthnRequest, question, answer, Response; the test's own
// signing of the request and the answer is in it, two RSA signatures.
func BenchmarkCrossing(b *testing.B) {
	r := benchRig(b, 1)
	for b.Loop() {
		r.entersAndIsSwept()
	}
}

func (r *rig) entersAndIsSwept() {
	r.enter(nil)
	r.clock.set(r.clock.get().Add(crossing.Life))
	require.NoError(r.t, r.Crossings.Sweep(ctx))
}

// flat has crossings of two gates take turns, and tells how many times as long what is no signature takes at the
// second: in the same moments, since a shared machine is faster in one than in the next.
func flat(b *testing.B, plain, full *rig) {
	var took [3]time.Duration
	sum := make([]byte, 32)
	does := []func(){plain.entersAndIsSwept, full.entersAndIsSwept, func() {
		for range 3 {
			_, err := plain.idp.Signer().Sign(nil, sum, crypto.SHA256)
			require.NoError(b, err)
		}
	}}
	for n := 0; b.Loop(); n++ {
		for i := range does {
			of := (i + n) % len(does) // each comes first in its turn
			began := time.Now()
			does[of]()
			took[of] += time.Since(began)
		}
	}
	b.ReportMetric(float64(took[1]-took[2])/float64(took[0]-took[2]), "times")
}

// What a crossing costs among ten thousand applications, and among a thousand rules of access of which none is about
// whoever enters.
func BenchmarkFlat(b *testing.B) {
	plain := benchRig(b, 1)
	for name, full := range map[string]*rig{"Applications=10000": benchRig(b, 10000), "Rules=1000": ruled(b, 1000)} {
		b.Run(name, func(b *testing.B) { flat(b, plain, full) })
	}
}

// ruled makes a gate with so many rules of access.
func ruled(b *testing.B, rules int) *rig {
	r := benchRig(b, 1)
	var plan records.Plan
	for i := range rules {
		rule, err := federation.AccessRules.Plain(federation.Name(fmt.Sprint("rule-", i))).Apply(federation.Settings{
			"title": fmt.Sprint("Rule ", i), "application": "roster", "then": "deny",
			"networks": words(fmt.Sprintf("10.%d.%d.0/24", i/256, i%256))})
		require.NoError(b, err)
		plan.Put = append(plan.Put, records.Put{Object: rule, Quiet: true, Judged: true})
	}
	r.carryOut(b, plan)
	return r
}

// The same for a profile by parts (parts.sh), in which nothing is to stand that crossings have not.
func BenchmarkCrossingParts(b *testing.B) {
	r := benchRig(b, 1)
	for n := 0; b.Loop(); n++ {
		r.enter(nil)
		if n%50 == 0 {
			r.clock.set(r.clock.get().Add(crossing.Life))
			require.NoError(b, r.Crossings.Sweep(ctx))
		}
	}
}

// The floor under BenchmarkCrossing: one RSA signature; a crossing has three of
// them, one the gate's and two of the test.
func BenchmarkCrossingFloor(b *testing.B) {
	r := newRigFor(b)
	sum := make([]byte, 32)
	for b.Loop() {
		_, err := r.idp.Signer().Sign(nil, sum, crypto.SHA256)
		require.NoError(b, err)
	}
}

// benchClients makes a gate with so many clients, of which planner signs with ES256,
// and gives planner's secret.
func benchClients(b *testing.B, clients int) (*rig, string) {
	r := newRigFor(b)
	var edits records.Plan
	for i := 1; i < clients; i++ {
		a := &federation.Application{Side: &oidcside.Application{ClientID: oidc.ClientID(fmt.Sprint("client-", i)),
			ClientKind: "web"}}
		a.Name, a.ID = federation.Name(fmt.Sprint("client-", i)), federation.ID(fmt.Sprint("id-", i))
		edits.Put = append(edits.Put, records.Put{Object: a, Quiet: true, Judged: true})
	}
	r.carryOut(b, edits)
	return r, r.client("planner", nil, federation.Settings{"algorithm": "ES256"}).Shown
}

// A whole sign-in from SAML to OpenID Connect with ES256 and a JWT for an access
// token: request, question, answer, code, tokens. The test's own RSA signature of
// the answer is in it.
func benchmarkClientSignIn(b *testing.B, clients int) {
	r, secret := benchClients(b, clients)
	for b.Loop() {
		code, _ := r.code(driving.Browser{}, nil)
		_, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", secret))
		require.NoError(b, err)
		r.clock.set(r.clock.get().Add(crossing.Life))
		require.NoError(b, r.Crossings.Sweep(ctx))
	}
}

func BenchmarkClientSignIn(b *testing.B)             { benchmarkClientSignIn(b, 1) }
func BenchmarkClientSignIn10000Clients(b *testing.B) { benchmarkClientSignIn(b, 10000) }

// The same as far as it is computation: what arrives is judged, the answer and the
// tokens are made; nothing is stored.
func BenchmarkClientComputed(b *testing.B) {
	r, _ := benchClients(b, 1)
	snap := r.Snapshot()
	app, _ := snap.Application("planner")
	side := app.Side.(*oidcside.Application)
	o := r.authorize(driving.Browser{})
	asked := r.asked(o)
	octets, err := saml.WriteResponse(saml.Answer{ResponseID: messageID(), AssertionID: messageID(), At: r.clock.get(),
		Lifetime: time.Minute,
		Issuer:   "urn:idp", Destination: "https://gate.example/saml/sp/staff/acs", InResponseTo: asked.ID,
		Audience: "https://gate.example/saml/sp/staff", NameID: saml.NameID{Format: saml.FormatEmail,
			Value: "ada@wrenmoor.example"},
		AuthnInstant: r.clock.get(), Context: saml.ContextPassword}, saml.Protection{Pair: r.idp})
	require.NoError(b, err)
	start := crossing.Advance(snap, crossing.State{}, crossing.Event{Kind: crossing.Arrived,
		Arrival: oidcside.Request(params(), false, false)}, crossing.Facts{New: asked.ID[1:]}, r.clock.get())
	start.State.Browser.Secret, start.State.Kept = []byte("mine"), true
	key := person.LinkKey(snap.Providers()[0].ID, profile.Subject{Format: string(saml.FormatEmail),
		Value: "ada@wrenmoor.example"})
	for b.Loop() {
		e := crossing.Event{Kind: crossing.Arrived, Browser: crossing.Browser{Secret: []byte("mine")},
			Arrival: samlside.Response(saml.Inbound{Binding: saml.BindingPOST, Octets: octets}, "staff", nil)}
		f := crossing.Facts{New: "n"}
		f.Put(crossing.WasUsed{}, false)
		f.Put(crossing.WhoIs{Link: key}, person.Person{ID: 1, Identifier: "i", Subject: "s"})
		turn := crossing.Advance(snap, start.State.Resting(), e, f, r.clock.get())
		for range 4 {
			if _, more := turn.Next.(*crossing.Lacks); !more {
				break
			}
			e.Kind = crossing.Learned
			turn = crossing.Advance(snap, turn.State, e, f, r.clock.get())
		}
		leave, ok := turn.Next.(*crossing.Leave)
		require.True(b, ok, "%+v", turn.Finding)
		_, err := leave.Plan.Render(&snap.Gate, crossing.Made{Random: rand.Reader, Now: r.clock.get()})
		require.NoError(b, err)
		next, err := leave.Plan.(crossing.Issuing).Issues().Grant.Redeem(grant.Redemption{Client: app.ID,
			RedirectURI: plannerBack, Verifier: verifierOf},
			r.clock.get())
		require.NoError(b, err)
		_, err = side.Tokens(oidcside.Issue{Gate: &snap.Gate, Grant: next, Word: &crossing.Answer{}, Scopes: next.Scopes,
			Turn:  1,
			First: true, ID: "r", Now: r.clock.get()})
		require.NoError(b, err)
	}
}

// The floor under it: one RSA-2048 verification and two P-256 signatures.
func BenchmarkClientComputedFloor(b *testing.B) {
	r, _ := benchClients(b, 1)
	sum := sha256.Sum256(nil)
	signed, err := r.idp.Signer().Sign(nil, sum[:], crypto.SHA256)
	require.NoError(b, err)
	public := r.idp.Certificate.Public.(*rsa.PublicKey)
	own := r.Snapshot().Gate.Keys[oidcside.SignsES256].Current.Signer()
	for b.Loop() {
		require.NoError(b, rsa.VerifyPKCS1v15(public, crypto.SHA256, sum[:], signed))
		for range 2 {
			_, err := own.Sign(rand.Reader, sum[:], crypto.SHA256)
			require.NoError(b, err)
		}
	}
}

func benchmarkRefresh(b *testing.B, clients int) {
	r, secret := benchClients(b, clients)
	code, _ := r.code(driving.Browser{}, nil, "scope", "openid offline_access")
	got, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", secret))
	require.NoError(b, err)
	for b.Loop() {
		got, err = r.Redeeming.Token(ctx, caller(refreshing(got.RefreshToken), "planner", secret))
		require.NoError(b, err)
	}
}

func BenchmarkRefresh(b *testing.B)             { benchmarkRefresh(b, 1) }
func BenchmarkRefresh10000Clients(b *testing.B) { benchmarkRefresh(b, 10000) }

// The floor under a refresh: the one transaction of one row that it makes.
func BenchmarkRefreshFloor(b *testing.B) {
	r, _ := benchClients(b, 1)
	r.code(driving.Browser{}, nil, "scope", "openid offline_access")
	var row store.GrantRow
	require.NoError(b, r.st.Read.Take(&row).Error)
	for b.Loop() {
		require.NoError(b, r.st.Write(ctx, func(tx *gorm.DB) error {
			row.Revision++
			return tx.Model(&store.GrantRow{}).Where("id = ? AND revision = ?", row.ID, row.Revision-1).
				Updates(map[string]any{"revision": row.Revision, "ended": "", "sealed": row.Sealed}).Error
		}))
	}
}
