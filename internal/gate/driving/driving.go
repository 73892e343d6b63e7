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
	Tries      *limit.Tries
}

// New makes a room with the crossings that were under way when the gate stopped.
func New(p Parts) (*Room, error) {
	under, err := loadPlaces(p.Store, p.Now())
	return &Room{store: p.Store, happenings: p.Happenings, log: p.Log, now: p.Now, records: p.Records,
		sessions: p.Sessions,
		people:   p.People, keyring: p.Keys, grants: p.Grants, leaving: p.Leaving, outbox: p.Outbox,
		mailer: p.Mailer, requests: p.Requests, tries: p.Tries, crossings: under, strangers: limit.NewFlow(),
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
	event   crossing.Event
	facts   crossing.Facts
	snap    *federation.Snapshot
	// reference is that of the trace, if the crossing has none yet.
	reference string
	cookies   []Cookie // of what was stored on the way
	turns     int      // that the crossing had when it was last stored
	hinted    bool     // an address was looked up that anybody could type
}

// rest waits until a turn that looked up such an address has taken its time.
func (t *turn) rest(since time.Time) {
	if !t.hinted {
		return
	}
	select {
	case <-time.After(time.Until(since.Add(hintedTakes))):
	case <-t.ctx.Done():
	}
}

// maxNeeds bounds how often one event may ask for more.
const maxNeeds = 24

// drive takes an event through the core until the browser can be answered.
func (rm *Room) drive(ctx context.Context, b Browser, r record, e crossing.Event) Outcome {
	e.Browser = crossing.Browser{Network: limit.Network(b.Address), Secret: b.secret(r.State.ID)}
	t := &turn{rm: rm, ctx: ctx, browser: b, began: r, event: e, snap: rm.records.Snapshot(),
		reference: random.Reference(), turns: r.State.Turns}
	defer t.rest(time.Now())
	t.facts = crossing.Facts{New: random.ID(), Session: t.session(rm.sessions.Find(ctx, b.Session))}
	got := crossing.Advance(t.snap, r.State, e, t.facts, rm.now())
	for range maxNeeds {
		var out Outcome
		var lost crossing.Effect
		var err error
		lacks, more := got.Next.(*crossing.Lacks)
		if more {
			lost, err = t.satisfy(got, lacks)
		} else {
			out, lost, err = t.perform(got)
		}
		next := t.event
		switch {
		case err != nil:
			return t.broken(got, err)
		case lost != nil:
			next.Kind, next.Lost = crossing.Lost, lost
			t.facts.Session = nil
			if b.Session != "" {
				t.facts.Session = rm.sessions.Stored(ctx, "hash", store.Hash(b.Session))
			}
			t.facts.Session = t.session(t.facts.Session)
		case more:
			next.Kind = crossing.Learned
		default:
			return out
		}
		got = crossing.Advance(t.snap, got.State, next, t.facts, rm.now())
	}
	return t.broken(got, errors.New("a turn of a crossing asked for more and more facts"))
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

// satisfy looks up what a step lacks. lost is an effect whose guard failed before somebody outside was to be asked;
// what comes after that goes by the newest configuration.
func (t *turn) satisfy(got crossing.Turn, l *crossing.Lacks) (lost crossing.Effect, err error) {
	if l.Outside() {
		s := &stored{}
		if lost, err = t.store(got, crossing.Rendered{}, s); err != nil || lost != nil {
			return lost, err
		}
		for _, do := range s.after {
			do()
		}
		t.cookies = append(t.cookies, s.cookies...)
	}
	a := &performing.Asker{Snap: t.snap, Network: t.event.Browser.Network, Made: t.made(person.Person{}), Turn: t}
	a.Provider, _ = t.snap.Provider(federation.Name(cmp.Or(got.About.Provider, string(got.State.Leg().Provider))))
	if err := t.rm.performer.Satisfy(t.ctx, a, l, &t.facts); err != nil {
		return nil, err
	}
	if l.Outside() {
		t.snap = t.rm.records.Snapshot()
	}
	return nil, nil
}

// Satisfies has this room satisfy what only crossings ask for.
func (rm *Room) Satisfies(p *performing.Performer) {
	rm.performer = p
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
func (t *turn) made(p person.Person) crossing.Made {
	return crossing.Made{Random: rand.Reader, Now: t.rm.now(), Identifier: p.Identifier,
		Secret: func(name string) (string, error) { return t.rm.keyring.Credential(t.ctx, name) }}
}

// stored is what storing the effects of a turn made.
type stored struct {
	person  person.Person
	cookies []Cookie
	after   []func() // to be done once it is on the disk
}

// perform does what the core decided: it makes the message, stores the effects in
// one transaction, and answers the browser. lost is an effect whose guard failed;
// then nothing was stored.
func (t *turn) perform(got crossing.Turn) (out Outcome, lost crossing.Effect, err error) {
	rm := t.rm
	s := &stored{person: got.Person}
	if s.person.Key != "" && s.person.ID == 0 {
		s.person.Identifier = random.Text(16)
	}
	var r crossing.Rendered
	if leave, ok := got.Next.(*crossing.Leave); ok {
		if r, err = leave.Plan.Render(&t.snap.Gate, t.made(s.person)); err != nil {
			return out, nil, err
		}
	}
	if lost, err = t.store(got, r, s); lost != nil || err != nil {
		if f := finding.Of(err); f != nil {
			return t.refused(got, f), nil, nil
		}
		return out, lost, err
	}
	for _, do := range s.after {
		do()
	}
	out = t.outcome(got, r)
	out.Cookies = slices.Concat(out.Cookies, t.cookies, s.cookies)
	if got.Person.ID == 0 {
		got.Person = s.person
	}
	rm.trace(t, got, r, &out)
	return out, nil, nil
}

// outcome tells what the browser gets.
func (t *turn) outcome(got crossing.Turn, r crossing.Rendered) Outcome {
	out := Outcome{Finding: got.Finding, Crossing: got.State.ID}
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
	out := Outcome{Page: crossing.PageRefused, Finding: f}
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
