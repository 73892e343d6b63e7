package gate

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/alexedwards/argon2id"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/linkside"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/crossing/rpside"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/mailing"
	"innergate.example/innergate/internal/gate/operators"
	"innergate.example/innergate/internal/gate/performing"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

var (
	ctx    = context.Background()
	tester = change.By{Who: "test"}
)

// protocols are those of the service.
var protocols = []crossing.Protocol{samlside.Protocol{}, linkside.Protocol{}, oidcside.Protocol{}, rpside.Protocol{}}

// messageID is an ID for a message of the other side.
func messageID() string { return "_" + random.ID() }

// respond posts a Response to the gate.
func (r *rig) respond(b driving.Browser, provider string, in saml.Inbound) driving.Outcome {
	return r.Crossings.Arrive(ctx, b, samlside.Response(in, provider, nil))
}

// rig is a gate with a clock that stands still and a provider and an
// application whose messages the test writes itself.
type rig struct {
	*Gate
	t       testing.TB
	st      *store.Store
	clock   clock
	idp     *keys.Pair
	app     *keys.Pair
	mu      sync.Mutex
	looks   int // at the clock, until something happens
	between func()
	idle    time.Duration // of sessions
	since   time.Time     // what came before is not replayed
	mail    mailing.Server
	box     string // address of its mailbox
}

// now tells the time. Whoever looks at the clock may find that something else
// happens first.
// clock is a time that a test sets, while others look at it.
type clock struct{ at atomic.Pointer[time.Time] }

func (c *clock) get() time.Time  { return *c.at.Load() }
func (c *clock) set(t time.Time) { c.at.Store(&t) }

func (r *rig) now() time.Time {
	r.mu.Lock()
	do := r.between
	if r.looks--; r.looks == 0 {
		r.between = nil
	}
	last := r.looks == 0
	r.mu.Unlock()
	if do != nil && last {
		do()
	}
	return r.clock.get()
}

// at has something happen at a look at the clock from now on, or beside it if it
// has to wait for what looks.
func (r *rig) at(look int, do func()) (came func() bool) {
	done := make(chan struct{})
	r.mu.Lock()
	defer r.mu.Unlock()
	r.looks, r.between = look, func() {
		go func() { defer close(done); do() }()
		select {
		case <-done:
		case <-time.After(200 * time.Millisecond):
		}
	}
	return func() bool {
		r.mu.Lock()
		never := r.between != nil
		r.looks, r.between = 0, nil
		r.mu.Unlock()
		if !never {
			<-done
		}
		return !never
	}
}

// restart ends the gate and starts it anew.
func (r *rig) restart() {
	if r.Gate != nil {
		r.Gate.Close()
	}
	var err error
	r.Gate, err = New(ctx, Options{Base: "https://gate.example", Store: r.st, Log: slog.New(slog.DiscardHandler),
		Skew: time.Minute, Now: r.now, SessionIdle: r.idle, Mail: r.mail,
		AllowNetworks: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, AllowHTTP: true, Protocols: protocols})
	require.NoError(r.t, err)
	performing.Satisfies(r.Performer, func(_ context.Context, _ *performing.Asker, n tide) (string, error) {
		return fmt.Sprint("high at pier ", n.pier), nil
	})
}

func newRig(t *testing.T) *rig { return newRigFor(t) }

func newRigFor(t testing.TB) *rig { return newRigKeeping(t, 100) }

// newRigKeeping makes one that keeps so many traces. Each begins as a copy of the first: making keys is most of what a
// gate costs that begins with nothing.
func newRigKeeping(t testing.TB, traces int) *rig {
	firstRig.Do(func() { firstRig.folder, firstRig.idp, firstRig.app = newFirst(t) })
	require.NotNil(t, firstRig.folder, "the first could not be made")
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, firstRig.folder))
	r := openRig(t, dir, traces)
	r.idp, r.app = firstRig.idp, firstRig.app
	t.Cleanup(func() { r.replayed(t); r.Gate.Close(); _ = r.st.Close() })
	return r
}

var firstRig struct {
	sync.Once
	folder   fstest.MapFS
	idp, app *keys.Pair
}

func openRig(t testing.TB, dir string, traces int) *rig {
	st, err := store.Open(filepath.Join(dir, "data"), filepath.Join(dir, "seal.key"), store.TraceLimits{Keep: traces},
		slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	r := &rig{t: t, st: st}
	r.clock.set(time.Now())
	r.restart()
	return r
}

// newFirst makes a gate with a provider and an application, and gives its files, and the keys of those two.
func newFirst(t testing.TB) (folder fstest.MapFS, idp, app *keys.Pair) {
	dir := t.TempDir()
	r := openRig(t, dir, 100)
	idp, err := keys.Generate("idp", r.clock.get(), rand.Reader)
	require.NoError(t, err)
	app, err = keys.Generate("app", r.clock.get(), rand.Reader)
	require.NoError(t, err)
	_, err = r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "staff",
		Source: records.Source{Document: saml.WriteIDPMetadata(saml.IDPFace{EntityID: "urn:idp",
			SSO: "https://idp.example/sso", Keys: []keys.Certificate{idp.Certificate}})}})
	require.NoError(t, err)
	_, err = r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "roster",
		Source: records.Source{Document: saml.WriteSPMetadata(saml.SPFace{EntityID: "urn:roster",
			ACS: "https://roster.example/acs"})}})
	require.NoError(t, err)
	r.Gate.Close()
	require.NoError(t, r.st.Close())
	folder = fstest.MapFS{}
	require.NoError(t, fs.WalkDir(os.DirFS(dir), ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		octets, err := os.ReadFile(filepath.Join(dir, path))
		folder[path] = &fstest.MapFile{Data: octets, Mode: 0o600}
		return err
	}))
	return folder, idp, app
}

// request sends an AuthnRequest to the gate.
func (r *rig) request(b driving.Browser, edit func(*saml.AuthnRequest)) driving.Outcome {
	req := saml.AuthnRequest{ID: messageID(), IssueInstant: r.clock.get(), Issuer: "urn:roster",
		ACS: "https://roster.example/acs"}
	if edit != nil {
		edit(&req)
	}
	out, err := saml.WriteAuthnRequest(req, saml.Endpoint{Binding: saml.BindingRedirect,
		Location: "https://gate.example/saml/idp/sso"}, "state", r.app)
	require.NoError(r.t, err)
	in, err := saml.FromRedirect(out.Location[strings.Index(out.Location, "?")+1:], "SAMLRequest")
	require.NoError(r.t, err)
	return r.Crossings.Arrive(ctx, b, samlside.Request(in, "", nil))
}

// asked reads our AuthnRequest out of an outcome.
func (r *rig) asked(o driving.Outcome) *saml.AuthnRequest {
	require.NotNil(r.t, o.Departure, "%+v", o)
	require.Equal(r.t, "AuthnRequest", o.Departure.Message)
	in, err := saml.FromRedirect(o.Departure.Location[strings.Index(o.Departure.Location, "?")+1:], "SAMLRequest")
	require.NoError(r.t, err)
	sp := &saml.SP{EntityID: "https://gate.example/saml/sp/staff",
		ACS: []saml.Endpoint{{Binding: saml.BindingPOST, Location: "https://gate.example/saml/sp/staff/acs"}}}
	req, err := saml.ReadAuthnRequest(in, sp, saml.Demand{SSO: "https://idp.example/sso", Now: r.clock.get(),
		Skew: time.Minute},
		new(finding.Checks))
	require.NoError(r.t, err)
	return req
}

// answer posts a Response to the gate.
func (r *rig) answer(b driving.Browser, to string, edit func(*saml.Answer)) driving.Outcome {
	a := saml.Answer{ResponseID: messageID(), AssertionID: messageID(), At: r.clock.get(), Lifetime: time.Minute,
		Issuer: "urn:idp", Destination: "https://gate.example/saml/sp/staff/acs",
		InResponseTo: to, Audience: "https://gate.example/saml/sp/staff", NameID: saml.NameID{Format: saml.FormatEmail,
			Value: "ada@wrenmoor.example"}, AuthnInstant: r.clock.get(), Context: saml.ContextPassword}
	if edit != nil {
		edit(&a)
	}
	octets, err := saml.WriteResponse(a, saml.Protection{Pair: r.idp})
	require.NoError(r.t, err)
	return r.respond(b, "staff", saml.Inbound{Binding: saml.BindingPOST, Octets: octets})
}

// keep applies the cookies of an outcome to a browser.
func keep(b driving.Browser, o driving.Outcome) driving.Browser {
	if b.Crossings == nil {
		b.Crossings = map[string]string{}
	}
	for _, c := range o.Cookies {
		switch {
		case c.Crossing == "":
			b.Session = c.Value
		case c.Value == "":
			delete(b.Crossings, c.Crossing)
		default:
			b.Crossings[c.Crossing] = c.Value
		}
	}
	return b
}

// enter signs somebody in and gives their browser.
func (r *rig) enter(edit func(*saml.Answer)) driving.Browser {
	o := r.request(driving.Browser{}, nil)
	b := keep(driving.Browser{}, o)
	done := r.answer(b, r.asked(o).ID, edit)
	require.NotNil(r.t, done.Departure, "%+v", done.Finding)
	return keep(b, done)
}

func TestSession(t *testing.T) {
	r := newRig(t)
	b := r.enter(nil)
	again := r.request(b, nil)
	require.Equal(t, "Response", again.Departure.Message, "the session lets in")
	require.Equal(t, "state", again.Departure.Form[1].Value)

	r.asked(r.request(b, func(q *saml.AuthnRequest) { q.ForceAuthn = true }))
	r.asked(r.request(b, func(q *saml.AuthnRequest) { q.Contexts, q.Comparison = []string{"urn:stronger"}, "exact" }))
	o := r.request(b, func(q *saml.AuthnRequest) { q.Contexts, q.Comparison = []string{saml.ContextPassword}, "exact" })
	require.Equal(t, "Response", o.Departure.Message, "the session's context is what was asked for")

	r.sessions.Clear()
	require.Equal(t, "Response", r.request(b, nil).Departure.Message, "the session is read back from the store")
	r.clock.set(r.clock.get().Add(crossing.SessionLife))
	r.asked(r.request(b, nil))

	limited := r.enter(func(a *saml.Answer) { a.SessionNotOnOrAfter = r.clock.get().Add(10 * time.Minute) })
	r.clock.set(r.clock.get().Add(11 * time.Minute))
	r.asked(r.request(limited, nil))
}

// A session that nobody comes with ends, and so do the tokens that hang on it; one
// that is used does not, also across a restart.
func TestIdleSessions(t *testing.T) {
	r := newRig(t)
	r.idle = time.Hour
	r.restart()
	secret := r.client("planner", nil, nil).Shown
	code, b := r.code(driving.Browser{}, nil)
	got, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", secret))
	require.NoError(t, err)
	for range 3 {
		r.clock.set(r.clock.get().Add(50 * time.Minute))
		require.Equal(t, "Response", r.request(b, nil).Departure.Message)
		r.restart()
	}
	got, err = r.Redeeming.Token(ctx, caller(refreshing(got.RefreshToken), "planner", secret))
	require.NoError(t, err, "the session it hangs on is used")
	r.clock.set(r.clock.get().Add(70 * time.Minute))
	_, err = r.Redeeming.Token(ctx, caller(refreshing(got.RefreshToken), "planner", secret))
	refusedBy(t, err, oidc.InvalidGrant, finding.GrantEnded)
	r.asked(r.request(b, nil))
	r.restart()
	r.asked(r.request(b, nil))
}

func TestPeopleAreKnownAgain(t *testing.T) {
	r := newRig(t)
	for range 3 {
		r.enter(nil)
	}
	r.enter(func(a *saml.Answer) { a.NameID.Value = "bram@wrenmoor.example" })
	r.enter(func(a *saml.Answer) { a.NameID = saml.NameID{Format: saml.FormatTransient, Value: "_t"} })
	var n int64
	require.NoError(t, r.st.Read.Model(&store.PersonRow{}).Count(&n).Error)
	require.EqualValues(t, 2, n, "a transient name makes no person")
	require.NoError(t, r.st.Read.Model(&store.IssuedRow{}).Count(&n).Error)
	require.EqualValues(t, 5, n, "what was issued is kept for logout")
}

func TestExactlyOneEndSucceeds(t *testing.T) {
	r := newRig(t)
	o := r.request(driving.Browser{}, nil)
	b := keep(driving.Browser{}, o)
	id := r.asked(o).ID
	results := make(chan driving.Outcome, 6)
	for range 6 {
		go func() { results <- r.answer(b, id, nil) }()
	}
	entered := 0
	for range 6 {
		if o := <-results; o.Departure != nil {
			entered++
		} else {
			require.Equal(t, crossing.PageFinished, o.Page)
			require.Equal(t, finding.CrossingEnded, o.Finding.Code)
		}
	}
	require.Equal(t, 1, entered)
}

func TestApplicationHearsWhatItShould(t *testing.T) {
	r := newRig(t)
	status := func(o driving.Outcome, want string) {
		t.Helper()
		require.NotNil(t, o.Departure, "%+v", o)
		require.Equal(t, "https://roster.example/acs", o.Departure.Location)
		require.Contains(t, string(o.Departure.Octets), want)
	}
	_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "second",
		Source: records.Source{Document: saml.WriteIDPMetadata(saml.IDPFace{EntityID: "urn:second",
			SSO: "https://second.example/sso", Keys: []keys.Certificate{r.idp.Certificate}})}})
	require.NoError(t, err)
	status(r.request(driving.Browser{}, func(q *saml.AuthnRequest) { q.IsPassive = true }), saml.StatusNoPassive)
	require.Equal(t, crossing.PageChoose, r.request(driving.Browser{}, nil).Page)
	require.NoError(t, r.Records.RemoveProvider(ctx, tester, "second"))

	o := r.request(driving.Browser{}, func(q *saml.AuthnRequest) {
		q.NameIDFormat = "urn:oasis:names:tc:SAML:1.1:nameid-format:X509SubjectName"
	})
	status(r.answer(keep(driving.Browser{}, o), r.asked(o).ID, nil), saml.StatusInvalidNameIDPolicy)

	o = r.request(driving.Browser{}, nil)
	refusal, err := saml.WriteStatus(saml.Answer{ResponseID: messageID(), At: r.clock.get(), Issuer: "urn:idp",
		Destination: "https://gate.example/saml/sp/staff/acs", InResponseTo: r.asked(o).ID},
		saml.StatusResponder, saml.StatusAuthnFailed, "Too many tries", r.idp)
	require.NoError(t, err)
	status(r.respond(keep(driving.Browser{}, o), "staff", saml.Inbound{Binding: saml.BindingPOST, Octets: refusal}),
		saml.StatusAuthnFailed)

	require.NoError(t, r.Records.RemoveProvider(ctx, tester, "staff"))
	require.Equal(t, finding.NoProvider, r.request(driving.Browser{}, nil).Finding.Code)
}

func TestCrossingIsFoundByRelayStateToo(t *testing.T) {
	r := newRig(t)
	o := r.request(driving.Browser{}, nil)
	b := keep(driving.Browser{}, o)
	var handle string
	for id := range b.Crossings {
		handle = id
	}
	require.LessOrEqual(t, len(handle), 80)
	octets, err := saml.WriteResponse(saml.Answer{ResponseID: "_r", AssertionID: "_a", At: r.clock.get(),
		Lifetime: time.Minute,
		Issuer:   "urn:idp", Destination: "https://gate.example/saml/sp/staff/acs",
		InResponseTo: "_somebody-elses", Audience: "https://gate.example/saml/sp/staff", NameID: saml.NameID{Value: "x"},
		AuthnInstant: r.clock.get()}, saml.Protection{Pair: r.idp})
	require.NoError(t, err)
	out := r.respond(b, "staff", saml.Inbound{Octets: octets, RelayState: handle})
	require.Equal(t, finding.InResponseToOther, out.Finding.Code)
	require.Equal(t, "https://gate.example/open/roster", out.Continue, "the person can start again")
}

func TestCrossingsAreBounded(t *testing.T) {
	r := newRig(t)
	b := driving.Browser{Address: "192.0.2.7"}
	for range 15 {
		b = keep(b, r.request(b, nil))
		require.LessOrEqual(t, len(b.Crossings), 10)
	}
	r.clock.set(r.clock.get().Add(crossing.Life))
	require.NoError(t, r.Crossings.Sweep(ctx))
	require.Zero(t, r.Crossings.Waiting())
	for id := range b.Crossings {
		require.Equal(t, finding.CrossingUnknown, r.Crossings.Continue(ctx, b, id).Finding.Code)
	}
}

func TestStaleTab(t *testing.T) {
	r := newRig(t)
	o := r.request(driving.Browser{}, nil)
	b, id := keep(driving.Browser{}, o), r.asked(o).ID
	r.clock.set(r.clock.get().Add(crossing.Life + time.Second))
	require.Equal(t, finding.InResponseToOther, r.answer(b, id, nil).Finding.Code, "the crossing has expired")
	for id := range b.Crossings {
		require.Equal(t, finding.CrossingUnknown, r.Crossings.Continue(ctx, b, id).Finding.Code)
	}
}

func TestOwnFailureIsSaidAndLeavesNothing(t *testing.T) {
	r := newRig(t)
	o := r.request(driving.Browser{}, nil)
	asked := r.asked(o).ID
	require.NoError(t, r.st.Close())
	for _, out := range []driving.Outcome{r.request(driving.Browser{}, nil), r.answer(keep(driving.Browser{}, o), asked,
		nil)} {
		require.Equal(t, crossing.PageRefused, out.Page)
		require.Equal(t, finding.GateFailure, out.Finding.Code)
		require.Nil(t, out.Departure)
	}
}

func TestNamesAreTakenOnce(t *testing.T) {
	r := newRig(t)
	_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "staff"})
	require.True(t, finding.Is(err, finding.NameTaken))
	_, err = r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "acs"})
	require.True(t, finding.Is(err, finding.NameTaken), "reserved: its address is the shared consumer's")
	_, err = r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "roster"})
	require.True(t, finding.Is(err, finding.NameTaken))
	_, err = r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "second", OwnStart: "start",
		Source: records.Source{Document: saml.WriteSPMetadata(saml.SPFace{EntityID: "urn:x",
			ACS: "https://x.example/acs"})}})
	require.ErrorContains(t, err, "no address")
	var n int64
	require.NoError(t, r.st.Read.Model(&store.HistoryRow{}).Count(&n).Error)
	require.EqualValues(t, 2, n, "what was refused left no history")
	require.NoError(t, r.Records.RemoveApplication(ctx, tester, "roster"))
	require.NoError(t, r.st.Read.Model(&store.HistoryRow{}).Where("what = ? AND who = ?", "removed",
		"test").Count(&n).Error)
	require.EqualValues(t, 1, n)
}

// A console session never outlives the password or the owner it was made with,
// also if that changes while somebody signs in.
func TestConsoleSessionsEndWithTheirOwner(t *testing.T) {
	r := newRig(t)
	const before, after = "a long enough password", "another long password"
	require.NoError(t, r.Operators.AddOwner(ctx, tester, "stays", before))
	for name, change := range map[string]func() error{
		"changed": func() error { return r.Operators.SetPassword(ctx, tester, "changed", after) },
		"removed": func() error { return r.Operators.RemoveOwner(ctx, tester, "removed") },
	} {
		require.NoError(t, r.Operators.AddOwner(ctx, tester, name, before))
		early, err := r.Operators.SignIn(ctx, name, before, "192.0.2.1")
		require.NoError(t, err)
		tokens := []string{early}
		var wg sync.WaitGroup
		var mu sync.Mutex
		for range 4 {
			wg.Go(func() {
				token, _ := r.Operators.SignIn(ctx, name, before, "192.0.2.1")
				mu.Lock()
				defer mu.Unlock()
				tokens = append(tokens, token)
			})
		}
		time.Sleep(20 * time.Millisecond) // they hash by now
		require.NoError(t, change())
		wg.Wait()
		for _, token := range tokens {
			user, err := r.Operators.ConsoleUser(ctx, token)
			require.NoError(t, err)
			require.Empty(t, user, name)
		}
	}
}

// However many guesses come at once, no more than the usual number is judged; a
// hash made by other parameters is honoured, and made anew.
func TestPasswordTriesAreCountedFirst(t *testing.T) {
	r := newRig(t)
	const good = "a long enough password"
	require.NoError(t, r.Operators.AddOwner(ctx, tester, "first", good))
	var judged, refused atomic.Int64
	var wg sync.WaitGroup
	for range 60 {
		wg.Go(func() {
			switch _, err := r.Operators.SignIn(ctx, "first", "a guess", "192.0.2.1"); err {
			case operators.ErrDenied:
				judged.Add(1)
			case operators.ErrTooManyTries:
				refused.Add(1)
			}
		})
	}
	wg.Wait()
	require.Equal(t, []int64{10, 50}, []int64{judged.Load(), refused.Load()})
	_, err := r.Operators.SignIn(ctx, "nobody", "a guess", "198.51.100.1")
	require.ErrorIs(t, err, operators.ErrDenied)
	for range 99 { // of other names, none of which there is
		require.True(t, r.tries.Take("console 198.51.100.1", 100, r.clock.get()))
	}
	_, err = r.Operators.SignIn(ctx, "another", "a guess", "198.51.100.1")
	require.ErrorIs(t, err, operators.ErrTooManyTries)

	old, err := argon2id.CreateHash(good, &argon2id.Params{Memory: 8 << 10, Iterations: 1, Parallelism: 2, SaltLength: 8,
		KeyLength: 16})
	require.NoError(t, err)
	require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error {
		return tx.Model(&store.OwnerRow{}).Where("username = ?", "first").Update("password", old).Error
	}))
	for range 2 {
		wg.Go(func() {
			_, err := r.Operators.SignIn(ctx, "first", good, "203.0.113.1")
			require.NoError(t, err)
		})
	}
	wg.Wait()
	var row store.OwnerRow
	require.NoError(t, r.st.Read.Where("username = ?", "first").Take(&row).Error)
	require.Contains(t, row.Password, "m=65536,t=3,p=1")
}

func TestOperators(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.Operators.AddOwner(ctx, tester, "first", "a long enough password"))
	require.Error(t, r.Operators.AddOwner(ctx, tester, "first", "a long enough password"))
	var fe *change.FieldError
	require.ErrorAs(t, r.Operators.AddOwner(ctx, tester, "second", "short"), &fe)
	require.Equal(t, "password", fe.Field)
	token, err := r.Operators.SignIn(ctx, "first", "a long enough password", "192.0.2.1")
	require.NoError(t, err)
	user, err := r.Operators.ConsoleUser(ctx, token)
	require.NoError(t, err)
	require.Equal(t, "first", user)
	require.NoError(t, r.Operators.SignOut(ctx, token))
	user, _ = r.Operators.ConsoleUser(ctx, token)
	require.Empty(t, user)
	for range 10 {
		_, err = r.Operators.SignIn(ctx, "nobody", "wrong", "192.0.2.1")
		require.ErrorIs(t, err, operators.ErrDenied)
	}
	_, err = r.Operators.SignIn(ctx, "nobody", "wrong", "192.0.2.1")
	require.ErrorIs(t, err, operators.ErrTooManyTries)
	_, err = r.Operators.SignIn(ctx, "first", "a long enough password", "192.0.2.1")
	require.NoError(t, err, "another account from the same address is not held up")
	r.clock.set(r.clock.get().Add(5*time.Minute + time.Second))
	r.tries.Sweep(r.clock.get())
	_, err = r.Operators.SignIn(ctx, "nobody", "wrong", "192.0.2.1")
	require.ErrorIs(t, err, operators.ErrDenied)

	_, secret, err := r.Operators.AddToken(ctx, change.By{Who: "first"}, "ci", time.Time{})
	require.NoError(t, err)
	name, err := r.Operators.TokenName(ctx, secret)
	require.NoError(t, err)
	require.Equal(t, "ci", name)
	require.NoError(t, r.Operators.RemoveToken(ctx, change.By{Who: "first"}, "ci"))
	name, _ = r.Operators.TokenName(ctx, secret)
	require.Empty(t, name)
	var nf *change.NotFoundError
	require.True(t, errors.As(r.Operators.RemoveToken(ctx, change.By{Who: "first"}, "ci"), &nf))
}

func TestTraceHoldsBackWhatCouldStillBeUsed(t *testing.T) {
	r := newRig(t)
	r.enter(nil)
	rows, _, err := r.Traces.List(ctx, traces.Filter{Limit: 1})
	require.NoError(t, err)
	signatures := func() (n int) {
		_, steps, err := r.Traces.Get(ctx, rows[0].ID)
		require.NoError(t, err)
		for _, s := range steps {
			if s.Name == "Response" && s.From != crossing.BrowserLane && !strings.Contains(s.Octets, "held back") {
				n++
			}
		}
		return n
	}
	require.Zero(t, signatures())
	r.clock.set(r.clock.get().Add(2 * time.Hour))
	require.Equal(t, 2, signatures(), "whole once they have expired")
}

func TestRestartKeepsEntityIDsAndKeys(t *testing.T) {
	dir := t.TempDir()
	log := slog.New(slog.DiscardHandler)
	var entityID, shared, fingerprint string
	for _, base := range []string{"https://old.example", "https://new.example"} {
		st, err := store.Open(filepath.Join(dir, "data"), filepath.Join(dir, "key"), store.TraceLimits{Keep: 100}, log)
		require.NoError(t, err)
		g, err := New(ctx, Options{Base: base, Store: st, Log: log, Protocols: protocols})
		require.NoError(t, err)
		self := g.Records.Snapshot().Gate
		if entityID == "" {
			entityID, shared, fingerprint = self.Own["idp-entity-id"], self.Own["sp-entity-id"],
				self.Keys["idp"].Current.Certificate.SHA256()
		}
		require.Equal(t, entityID, self.Own["idp-entity-id"], "never computed again from the base address")
		require.Equal(t, shared, self.Own["sp-entity-id"], "that of the face which providers share, too")
		require.Equal(t, "https://old.example/saml/sp", shared)
		require.Equal(t, fingerprint, self.Keys["idp"].Current.Certificate.SHA256())
		g.Close()
		require.NoError(t, st.Close())
	}
	_, err := os.Stat(filepath.Join(dir, "data", "innergate.db"))
	require.NoError(t, err)
	for _, bad := range []string{"gate.example", "https://gate.example/x", "ftp://gate.example",
		"https://user@gate.example", ""} {
		_, err := ParseBase(bad)
		require.Error(t, err, bad)
	}
}
