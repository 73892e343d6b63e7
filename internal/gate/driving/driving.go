// Package driving drives crossings: events come in from the browser, the core
// decides, and what it decided is done here. Nothing is decided in this room.
package driving

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"log/slog"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"golang.org/x/sys/unix"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/gate/approving"
	"innergate.example/innergate/internal/gate/grants"
	"innergate.example/innergate/internal/gate/happening"
	"innergate.example/innergate/internal/gate/keyring"
	"innergate.example/innergate/internal/gate/leaving"
	"innergate.example/innergate/internal/gate/limit"
	"innergate.example/innergate/internal/gate/mailing"
	"innergate.example/innergate/internal/gate/outbox"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/performing"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/rehearsing"
	"innergate.example/innergate/internal/gate/sessions"
	"innergate.example/innergate/internal/store"
)

// Room drives crossings.
type Room struct {
	store      *store.Store
	happenings *happening.Room
	log        *slog.Logger
	now        func() time.Time
	records    *records.Room
	sessions   *sessions.Room
	people     *people.Room
	keyring    *keyring.Room
	grants     *grants.Room
	leaving    *leaving.Room
	outbox     *outbox.Room
	mailer     *mailing.Room
	requests   *approving.Room
	rehearsals *rehearsing.Room
	tries      *limit.Tries
	performer  *performing.Performer
	crossings  *places
	strangers  *limit.Flow // traces of what strangers send
	results    results
}

// Parts are what the room works with.
type Parts struct {
	Store      *store.Store
	Happenings *happening.Room
	Log        *slog.Logger
	Now        func() time.Time
	Records    *records.Room
	Sessions   *sessions.Room
	People     *people.Room
	Keys       *keyring.Room
	Grants     *grants.Room
	Leaving    *leaving.Room
	Outbox     *outbox.Room
	Mailer     *mailing.Room
	Requests   *approving.Room
	Rehearsals *rehearsing.Room
	Tries      *limit.Tries
}

// New makes a room with the crossings that were under way when the gate stopped.
func New(p Parts) (*Room, error) {
	under, err := loadPlaces(p.Store, p.Now())
	return &Room{store: p.Store, happenings: p.Happenings, log: p.Log, now: p.Now, records: p.Records,
		sessions: p.Sessions,
		people:   p.People, keyring: p.Keys, grants: p.Grants, leaving: p.Leaving, outbox: p.Outbox,
		mailer: p.Mailer, requests: p.Requests, rehearsals: p.Rehearsals, tries: p.Tries, crossings: under, strangers: limit.NewFlow(),
		results: newResults()}, err
}

// Sweep drops what has expired.
func (rm *Room) Sweep(ctx context.Context) error {
	rm.crossings.sweep(rm.now())
	return rm.store.Traces.Prune(ctx, waited(rm.now()))
}

// Waiting counts crossings that have not ended.
func (rm *Room) Waiting() int { return rm.crossings.waiting() }

// Results counts crossings that ended, by result and finding.
func (rm *Room) Results() prometheus.Collector { return rm.results }

// Called counts a call to a provider.
func (rm *Room) Called(provider, request string, status int, f *finding.Finding, took time.Duration) {
	rm.results.called(provider, request, status, f, took)
}

// The driving of crossings: events come in from the browser, the core decides,
// and what it decided is done here. Nothing is decided in this file.

// Start is what somebody who starts at the gate asks for: the application, where in it to go on, or its starting
// point, by which provider, and as what; all but the application may be "".
type Start struct{ App, Target, Point, Via, Role string }

// Open starts a sign-in to an application at the gate.
func (rm *Room) Open(ctx context.Context, b Browser, s Start) Outcome {
	return rm.drive(ctx, b, record{}, crossing.Event{Kind: crossing.Opened, App: s.App, Target: s.Target,
		Start: federation.Name(s.Point), Via: federation.Name(s.Via), Role: s.Role})
}

// Arrive takes a message of an application or a provider.
func (rm *Room) Arrive(ctx context.Context, b Browser, in *crossing.Arrival) Outcome {
	return rm.drive(ctx, b, rm.crossings.known(in.Handles, rm.now()), crossing.Event{Kind: crossing.Arrived, Arrival: in})
}

// Continue goes on with a crossing of this browser.
func (rm *Room) Continue(ctx context.Context, b Browser, id string) Outcome {
	return rm.back(ctx, b, id, crossing.Event{Kind: crossing.Continued})
}

// Choose goes on with the provider that the person picked; with again they want
// to choose anew.
func (rm *Room) Choose(ctx context.Context, b Browser, id, chosen string, again bool) Outcome {
	return rm.back(ctx, b, id, crossing.Event{Kind: crossing.Chosen, Via: federation.Name(chosen), Again: again})
}

// mostTyped is how many addresses may be typed from one network within five minutes, whosever they are.
const mostTyped = 60

// hintedTakes is how long a turn takes at least that looks up an address that anybody could type, so that it does not
// show whether somebody has it.
const hintedTakes = 10 * time.Millisecond

// Type goes on with the address that the person typed.
func (rm *Room) Type(ctx context.Context, b Browser, id, address string) Outcome {
	return rm.back(ctx, b, id, crossing.Event{Kind: crossing.Chosen, Address: address, Many: !rm.mayType(b)})
}

// mayType reports whether a network may try another address.
func (rm *Room) mayType(b Browser) bool {
	return rm.tries.Take("typed\x1f"+limit.Network(b.Address), mostTyped, rm.now())
}

// Submit takes a form that a provider's side showed.
func (rm *Room) Submit(ctx context.Context, b Browser, id string, form url.Values) Outcome {
	return rm.back(ctx, b, id, crossing.Event{Kind: crossing.Submitted, Form: form})
}

// Authorize takes the browser's answer to a challenge.
func (rm *Room) Authorize(ctx context.Context, b Browser, id, header string) Outcome {
	return rm.back(ctx, b, id, crossing.Event{Kind: crossing.Authorization, Header: header})
}

func (rm *Room) back(ctx context.Context, b Browser, id string, e crossing.Event) Outcome {
	return rm.drive(ctx, b, rm.crossings.find(id, rm.now()), e)
}

// turn is one event on its way through the core, with what was done for it.
type turn struct {
	rm      *Room
	ctx     context.Context
	browser Browser
	began   record // as it was when the event came
	state   crossing.State
	event   crossing.Event
	next    crossing.EventKind // what Advance is told, once the event itself was
	facts   crossing.Facts
	snap    *federation.Snapshot
	// reference is that of the trace, if the crossing has none yet.
	reference string
	cookies   []Cookie // of what was stored on the way
	turns     int      // that the crossing had when it was last stored
	hinted    bool     // an address was looked up that anybody could type
	out       Outcome
}

// rest waits until a turn that looked up such an address has taken its time, to the microsecond: a timer of Go ends
// whole milliseconds after a processor ran out of work, and would tell when that was.
func (t *turn) rest(since time.Time) {
	if !t.hinted {
		return
	}
	end := since.Add(hintedTakes)
	select {
	case <-time.After(time.Until(end) - 2*time.Millisecond):
	case <-t.ctx.Done():
	}
	for left := time.Until(end); left > 0 && t.ctx.Err() == nil; left = time.Until(end) {
		sleep := unix.NsecToTimespec(left.Nanoseconds())
		_ = unix.Nanosleep(&sleep, nil) // a signal may end it early
	}
}

// drive takes an event through the core until the browser can be answered.
func (rm *Room) drive(ctx context.Context, b Browser, r record, e crossing.Event) Outcome {
	e.Browser = crossing.Browser{Network: limit.Network(b.Address), Secret: b.secret(r.State.ID),
		Run: rm.rehearsals.Marked(b.Rehearsal)}
	t := &turn{rm: rm, ctx: ctx, browser: b, began: r, state: r.State, event: e, next: e.Kind,
		snap: rm.records.Snapshot(), reference: random.Reference(), turns: r.State.Turns}
	defer t.rest(time.Now())
	t.facts = crossing.Facts{New: random.ID(), Session: t.session(rm.sessions.Find(ctx, b.Session)),
		Rehearsed: t.rehearsed(), Identifier: random.Text(16)}
	got, err := performing.Run(ctx, t)
	if err != nil {
		return t.broken(got, err)
	}
	return t.out
}

// Advance decides: by the event, by what was learned, or after an effect that was lost.
func (t *turn) Advance(lost crossing.Effect) crossing.Turn {
	e := t.event
	if e.Kind = t.next; lost != nil {
		e.Kind, e.Lost = crossing.Lost, lost
		t.facts.Session = nil
		if t.browser.Session != "" {
			t.facts.Session = t.rm.sessions.Stored(t.ctx, "hash", store.Hash(t.browser.Session))
		}
		t.facts.Session, t.facts.Rehearsed = t.session(t.facts.Session), t.rehearsed()
	}
	got := crossing.Advance(t.snap, t.state, e, t.facts, t.rm.now())
	t.state, t.next = got.State, crossing.Learned
	return got
}

// Lacks is what a turn lacks.
func (t *turn) Lacks(got crossing.Turn) (*crossing.Lacks, []crossing.Effect) {
	lacks, _ := got.Next.(*crossing.Lacks)
	return lacks, got.Effects
}

// Store stores the effects so far, before somebody outside is asked.
func (t *turn) Store(_ context.Context, got crossing.Turn, _ []crossing.Effect) (crossing.Effect, error) {
	w, lost, err := t.store(got, crossing.Rendered{})
	if lost == nil && err == nil {
		t.cookies = append(t.cookies, w.cookies...)
	}
	return lost, err
}

// Satisfy looks up what a step lacks. After somebody outside was asked the newest configuration applies.
func (t *turn) Satisfy(ctx context.Context, got crossing.Turn, l *crossing.Lacks) error {
	a := t.asker(t)
	a.Provider, _ = t.snap.Provider(federation.Name(cmp.Or(got.About.Provider, string(got.State.Leg().Provider))))
	if err := t.rm.performer.Satisfy(ctx, a, l, &t.facts); err != nil {
		return err
	}
	if l.Outside() {
		t.snap = t.rm.records.Snapshot()
	}
	return nil
}

// asker is on whose behalf something is looked up or stored.
func (t *turn) asker(of any) *performing.Asker {
	return &performing.Asker{Snap: t.snap, Network: t.event.Browser.Network, Made: t.made(), Turn: of}
}

// rehearsal is the title of the application that is rehearsed in a turn, "" for a real one.
func (t *turn) rehearsal(got crossing.Turn) string {
	if got.Run == nil {
		return ""
	}
	if app, there := t.snap.Application(got.Run.App); there {
		return app.Title
	}
	return string(got.Run.App)
}

// rehearsed is the session of the run that the browser is marked for, nil for none.
func (t *turn) rehearsed() *crossing.Session {
	if t.event.Browser.Run == nil {
		return nil
	}
	return t.rm.rehearsals.Session(t.ctx, t.event.Browser.Run.Run)
}

// session is the one that the browser is in: by its cookie, else by what its crossings
// know, for the cookie does not come along with a cross-site post, and may be that of before
// while another tab is being given the next.
func (t *turn) session(by *crossing.Session) *crossing.Session {
	if by != nil {
		presented := *by
		presented.Presented = true
		return &presented
	}
	name := t.rm.crossings.session(t.browser, t.began.State, t.rm.now())
	if name == "" {
		return nil
	}
	return t.rm.sessions.Stored(t.ctx, "lasting", name)
}

// Performs has this room look up what only crossings ask for, and store what they have stored.
func (rm *Room) Performs(p *performing.Performer) {
	rm.performer = p
	rm.stores(p)
	performing.Satisfies(p, func(ctx context.Context, a *performing.Asker, n crossing.WhoHas) ([]person.Person, error) {
		t, is := a.Turn.(*turn)
		if is && n.Hinted {
			t.hinted = true
			if t.event.Address == "" && !rm.mayType(t.browser) { // an application's hint; what is typed is counted
				return []person.Person{}, nil
			}
		}
		return rm.store.People(ctx).Having(n.Sought, n.For)
	})
	performing.Satisfies(p, func(_ context.Context, a *performing.Asker, n crossing.WhichCrossing) (*crossing.State,
		error) {
		r := rm.crossings.known(n.Names, rm.now())
		if r.State.ID == "" {
			return nil, nil
		}
		if t, is := a.Turn.(*turn); is {
			t.began, t.turns = r, r.State.Turns
			t.event.Browser.Secret = t.browser.secret(r.State.ID)
		}
		return &r.State, nil
	})
	performing.Satisfies(p, rm.mail)
}

// mail makes up a code and mails it.
func (rm *Room) mail(ctx context.Context, a *performing.Asker, m *crossing.Mail) (out crossing.Mailed, err error) {
	code := random.Code(6)
	out.Sum = person.CodeSum(m.Question, code)
	took, err := rm.takeMail(ctx, mailAsk{To: m.To, Person: m.Person, Network: a.Network})
	if err != nil {
		return out, err
	}
	if took == nil {
		return crossing.Mailed{Fail: finding.New(finding.MailLimit)}, nil
	}
	text := strings.ReplaceAll(m.Text, crossing.CodeMark, code)
	if err := rm.mailer.Send(ctx, mailing.Message{To: m.To, Subject: m.Subject, Text: text}); err != nil {
		f := finding.Of(err)
		if f == nil {
			return out, err
		}
		return crossing.Mailed{Fail: f}, rm.giveMail(ctx, took)
	}
	return out, nil
}

// TriesKey is by what tries of something from a network are counted.
func TriesKey(key, network string) string { return key + " " + network }

// made is what may be random in a message.
func (t *turn) made() crossing.Made {
	return crossing.Made{Random: rand.Reader, Now: t.rm.now(),
		Secret: func(name string) (string, error) { return t.rm.keyring.Credential(t.ctx, name) }}
}

// Finish makes the message, stores the effects in one transaction, and answers the browser.
func (t *turn) Finish(_ context.Context, got crossing.Turn) (lost crossing.Effect, err error) {
	var r crossing.Rendered
	if leave, ok := got.Next.(*crossing.Leave); ok {
		if r, err = leave.Plan.Render(&t.snap.Gate, t.made()); err != nil {
			return nil, err
		}
	}
	w, lost, err := t.store(got, r)
	if lost != nil || err != nil {
		if f := finding.Of(err); f != nil {
			t.out = t.refused(got, f)
			return nil, nil
		}
		return lost, err
	}
	t.out = t.outcome(got, r)
	t.out.Cookies = slices.Concat(t.out.Cookies, t.cookies, w.cookies)
	if got.Person.ID == 0 {
		got.Person = w.person
	}
	t.rm.trace(t, got, r, &t.out)
	return nil, nil
}

// outcome tells what the browser gets.
func (t *turn) outcome(got crossing.Turn, r crossing.Rendered) Outcome {
	out := Outcome{Finding: got.Finding, Crossing: got.State.ID, Rehearsal: t.rehearsal(got)}
	switch n := got.Next.(type) {
	case *crossing.Leave:
		out.Departure = &r.Departure
	case *crossing.Go:
		out.goes(n)
	case *crossing.Show:
		out.show(n)
	case *crossing.Challenge:
		out.Challenge = n.Schemes
		out.show(&n.Show)
	}
	if got.Apart {
		out.Crossing = ""
	}
	return out
}

// refused answers a turn that could not be kept: there are too many crossings.
func (t *turn) refused(got crossing.Turn, f *finding.Finding) Outcome {
	got.Finding, got.Result, got.Apart = f, crossing.Refused, true
	got.Steps = append(got.Steps, crossing.TraceStep{At: t.rm.now().UTC(), From: crossing.GateLane,
		To: crossing.BrowserLane, Name: "refused page", Finding: f})
	out := Outcome{Page: crossing.PageRefused, Finding: f, Rehearsal: t.rehearsal(got)}
	t.rm.trace(t, got, crossing.Rendered{}, &out)
	return out
}

// broken answers a failure of our own, such as a full disk.
func (t *turn) broken(got crossing.Turn, err error) Outcome {
	got.Broken = err
	got.Steps = append(got.Steps, crossing.TraceStep{At: t.rm.now().UTC(), From: crossing.GateLane, To: crossing.GateLane,
		Name: crossing.StepFailure})
	return t.refused(got, finding.New(finding.GateFailure))
}

// ErrNotAnswered is given to a back channel that may not ask. The log says why.
var ErrNotAnswered = errors.New("this request is not answered")

// NotAnswered notes why a back channel was not answered.
func (rm *Room) NotAnswered(err error) error {
	why := err.Error() // it may hold what a stranger wrote
	if !rm.strangers.Take("back channel", rm.now()) {
		return ErrNotAnswered
	}
	rm.log.Warn("a back channel was not answered", "error", why[:min(len(why), 500)])
	return ErrNotAnswered
}
