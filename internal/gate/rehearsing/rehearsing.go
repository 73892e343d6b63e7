// Package rehearsing runs saved sign-in tests: it gives links that work once, marks browsers for a run, and keeps what
// was seen of it and its verdict. The crossings themselves are driven as all others are; what is expected, and what
// came, is judged in the core.
package rehearsing

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/rehearsal"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/leaving"
	"innergate.example/innergate/internal/gate/limit"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/sessions"
	"innergate.example/innergate/internal/store"
)

// Bounds of runs.
const (
	// LinkLife is how long a link waits to be opened.
	LinkLife = 15 * time.Minute
	// RunLife is how long a run goes on once it was opened: a sign-in, and a look at the application.
	RunLife  = 20 * time.Minute
	mostOpen = 200 // runs that go on at once
	mostKept = 100 // ended runs of one rehearsal
)

// Parts are what the room works with.
type Parts struct {
	Store    *store.Store
	Log      *slog.Logger
	Now      func() time.Time
	Base     string
	Records  *records.Room
	Sessions *sessions.Room
	Leaving  *leaving.Room
	Tries    *limit.Tries // of links that are none
	// Account tells whether an application has an account by a name, by the newest comparison of accounts, and by
	// which attribute it recognises people; compared is false if none was made.
	Account func(ctx context.Context, app federation.Name, name string) (has, compared bool, err error)
}

// Room runs rehearsals.
type Room struct {
	Parts
	mu      sync.Mutex
	open    map[int64]*Run
	byLink  map[string]int64 // by the hash of the link, while it waits
	byMark  map[string]int64 // by the hash of the mark of the browser
	watches map[*Watch]struct{}
}

// Run is one run of a rehearsal.
type Run struct {
	ID        int64
	Began     time.Time
	Ends      time.Time // when it ends by itself
	Ended     time.Time // zero while it goes on
	Rehearsal federation.Name
	kept
	Value   string // that a service's token request carries, of a run that was just begun
	session string
	link    []byte
	mark    []byte
}

// kept is what is sealed of a run.
type kept struct {
	Title    string              `json:"title"`
	About    crossing.Rehearsing `json:"about"`
	AppTitle string              `json:"appTitle"`
	Start    string              `json:"start"`
	Expect   []string            `json:"expect"`
	Revision int                 `json:"revision"` // of the rehearsal
	By       string              `json:"by"`
	Pressed  time.Time           `json:"pressed,omitzero"`
	Network  string              `json:"network,omitempty"` // of the browser that opened it
	Seen     rehearsal.Seen      `json:"seen"`
	Verdict  rehearsal.Verdict   `json:"verdict"`
	Halted   string              `json:"halted,omitempty"` // what it usually means where it stopped
	Traces   []string            `json:"traces,omitempty"`
	// Stands says what the configuration was like that it ran against: see Standing.
	Stands string `json:"stands,omitempty"`
	// Unattended says that no person sits at the browser.
	Unattended bool `json:"unattended,omitempty"`
}

// New makes the room, with the runs that were going on when the gate stopped.
func New(ctx context.Context, p Parts) (*Room, error) {
	rm := &Room{Parts: p, open: map[int64]*Run{}, byLink: map[string]int64{}, byMark: map[string]int64{},
		watches: map[*Watch]struct{}{}}
	rows, err := p.Store.OpenRuns(ctx)
	for _, row := range rows {
		var r *Run
		if r, err = rm.read(row); err != nil {
			return nil, err
		}
		rm.keep(r)
	}
	return rm, err
}

func (rm *Room) read(row store.RunRow) (*Run, error) {
	r := &Run{ID: row.ID, Began: row.Began, Ends: row.Ends, Rehearsal: federation.Name(row.Rehearsal),
		session: row.Session, link: row.Link, mark: row.Mark}
	if row.Ended != nil {
		r.Ended = *row.Ended
	}
	plain, err := rm.Store.Open("rehearsal run", row.Sealed)
	if err != nil {
		return nil, err
	}
	err = json.Unmarshal(plain, &r.kept)
	r.About.Run = strconv.FormatInt(r.ID, 10) // it had no number yet when it was first stored
	return r, err
}

func (rm *Room) row(r *Run) (*store.RunRow, error) {
	plain, err := json.Marshal(r.kept)
	if err != nil {
		return nil, err
	}
	row := &store.RunRow{ID: r.ID, Rehearsal: string(r.Rehearsal), Application: string(r.About.AppID),
		Began: r.Began.UTC(),
		Ends:  r.Ends.UTC(), State: string(r.Verdict.State), Link: r.link, Mark: r.mark, Session: r.session,
		Unattended: r.Unattended, Sealed: rm.Store.Seal("rehearsal run", plain)}
	if !r.Seen.Ended.IsZero() {
		row.Took = r.Seen.Ended.Sub(r.Seen.Began).Milliseconds()
	}
	if row.Link == nil {
		row.Link = []byte{}
	}
	if row.Mark == nil {
		row.Mark = []byte{}
	}
	if !r.Ended.IsZero() {
		ended := r.Ended.UTC()
		row.Ended = &ended
	}
	return row, nil
}

// keep has a run in memory, as it is now.
func (rm *Room) keep(r *Run) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	rm.open[r.ID] = r
	if len(r.link) > 0 {
		rm.byLink[string(r.link)] = r.ID
	}
	if len(r.mark) > 0 {
		rm.byMark[string(r.mark)] = r.ID
	}
}

// Plan finds a rehearsal with its application.
func (rm *Room) Plan(name string) (*federation.RehearsalPlan, *federation.Application, error) {
	snap := rm.Records.Snapshot()
	plan, there := snap.Rehearsal(federation.Name(name))
	if !there {
		return nil, nil, change.NotFound("rehearsal", name, nearword.Of(name, snap.Names(federation.KindRehearsal)))
	}
	app, there := snap.Application(plan.App)
	if !there {
		return nil, nil, change.Conflict("the application "+string(plan.App)+" of this rehearsal was removed",
			"remove the rehearsal, or set its application")
	}
	return plan, app, nil
}

// Begin starts a run, and gives the link that is opened in the browser of whoever rehearses; of one that is
// unattended, in the gate's own.
func (rm *Room) Begin(ctx context.Context, by change.By, name string, unattended bool) (Run, string, error) {
	snap := rm.Records.Snapshot()
	plan, app, err := rm.Plan(name)
	if err != nil {
		return Run{}, "", err
	}
	token, now := random.Text(32), rm.Now()
	r := &Run{Rehearsal: plan.Name, Began: now, Ends: now.Add(LinkLife), link: store.Hash(token), kept: kept{
		Title: plan.Title, AppTitle: app.Title, Start: plan.Start, Revision: plan.Revision, By: by.Who,
		Unattended: unattended,
		About: crossing.Rehearsing{App: app.Name, AppID: app.ID, Provider: cmp.Or(plan.Provider, app.Provider),
			Force:   plan.Force,
			Passive: plan.Passive, Context: plan.Context, Role: plan.Role},
		Seen:    rehearsal.Seen{Stage: rehearsal.Linked},
		Verdict: rehearsal.Verdict{State: rehearsal.Waiting, Lines: []rehearsal.Held{}}, Stands: Standing(snap, plan)}}
	for _, e := range plan.Expect {
		r.Expect = append(r.Expect, e.String())
	}
	if !app.Attended() { // nobody opens a link of it: its request names the run
		r.link, r.mark, r.Pressed, r.Ends, r.Seen.Stage = nil, store.Hash(token), now, now.Add(RunLife), rehearsal.Pressed
		r.Start = rehearsal.StartService
	}
	rm.mu.Lock()
	many := len(rm.open) >= mostOpen
	rm.mu.Unlock()
	if many {
		return Run{}, "", change.Conflict("too many runs go on at once", "end some, or wait until they have ended")
	}
	row, err := rm.row(r)
	if err == nil {
		err = rm.Store.Write(ctx, func(tx *store.Writing) error {
			row.ID = 0
			return errors.Join(rm.Store.PutRun(tx, row), rm.Store.PruneRuns(tx, string(r.Rehearsal), mostKept))
		})
	}
	if err != nil {
		return Run{}, "", err
	}
	r.ID, r.About.Run = row.ID, strconv.FormatInt(row.ID, 10)
	rm.keep(r)
	if r.Start == rehearsal.StartService {
		out := *r
		out.Value = token
		return out, "", nil
	}
	return *r, rm.Base + "/rehearsal/" + token, nil
}

// save changes a run that goes on, and stores it. It is kept as it was where the disk refuses it.
func (rm *Room) save(ctx context.Context, id int64, do func(*Run)) error {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	r := rm.open[id]
	if r == nil {
		return nil // it has ended
	}
	next := *r
	do(&next)
	row, err := rm.row(&next)
	if err == nil {
		err = rm.Store.Write(ctx, func(tx *store.Writing) error { return rm.Store.PutRun(tx, row) })
	}
	if err != nil {
		return err
	}
	if len(next.link) == 0 {
		delete(rm.byLink, string(r.link))
	}
	if len(next.mark) > 0 {
		rm.byMark[string(next.mark)] = id
	}
	rm.open[id] = &next
	rm.tell(next)
	return nil
}

// find gives a run that goes on, by the hash of its link or mark.
func (rm *Room) find(in map[string]int64, token string) (Run, bool) {
	if token == "" {
		return Run{}, false
	}
	rm.mu.Lock()
	defer rm.mu.Unlock()
	r := rm.open[in[string(store.Hash(token))]]
	if r == nil || !rm.Now().Before(r.Ends) {
		return Run{}, false
	}
	return *r, true
}

// mostGuesses is how many links that are none may be opened from one network within five minutes.
const mostGuesses = 30

// Linked gives the run whose link waits to be opened; looking at it uses nothing up.
func (rm *Room) Linked(token, network string) (Run, error) {
	r, waits := rm.find(rm.byLink, token)
	switch {
	case waits:
		return r, nil
	case !rm.Tries.Take("rehearsal link\x1f"+network, mostGuesses, rm.Now()):
		return r, finding.New(finding.TooManyStarts)
	}
	return r, finding.New(finding.RehearsalLink)
}

// OfBrowser is the run that a browser is marked for, by its cookie; nil for none.
func (rm *Room) OfBrowser(cookie string) *Run {
	r, goes := rm.find(rm.byMark, cookie)
	if !goes {
		return nil
	}
	return &r
}

// Press opens the run of a link, once. It gives the mark of the browser, and where that goes on to; "" where the
// tester has to start by themselves.
func (rm *Room) Press(ctx context.Context, token, network string) (r Run, mark, to string, err error) {
	if r, err = rm.Linked(token, network); err != nil {
		return r, "", "", err
	}
	mark = random.Text(32)
	used := true
	err = rm.save(ctx, r.ID, func(now *Run) {
		if used = len(now.link) == 0; used {
			return // somebody pressed it a moment ago
		}
		now.link, now.mark, now.Pressed, now.Network = nil, store.Hash(mark), rm.Now(), network
		now.Ends, now.Seen.Stage = rm.Now().Add(RunLife), rehearsal.Pressed
		r = *now
	})
	if err == nil && used {
		err = finding.New(finding.RehearsalLink)
	}
	if err != nil {
		return r, "", "", err
	}
	return r, mark, rm.goes(r), nil
}

// goes is where a run begins.
func (rm *Room) goes(r Run) string {
	snap := rm.Records.Snapshot()
	app, there := snap.Application(r.About.App)
	switch {
	case !there || r.Start == federation.StartProvider:
		return ""
	case r.Start == federation.StartGate:
		return rm.Base + "/open/" + string(r.About.App)
	case app.OwnStart != "":
		return app.OwnStart
	}
	if side := crossing.Of(app.Side).Starting; side != nil {
		if to, starts, err := side.Start(&snap.Gate, crossing.Landing{}); err == nil && starts {
			return to
		}
	}
	return ""
}

// Marked is what a browser is marked for, by its cookie; nil for nothing, or for a run that has ended.
func (rm *Room) Marked(cookie string) *crossing.Rehearsing {
	r, goes := rm.find(rm.byMark, cookie)
	if !goes {
		return nil
	}
	return &r.About
}

// Session is that of a run; nil if there is none yet.
func (rm *Room) Session(ctx context.Context, run string) *crossing.Session {
	id, _ := strconv.ParseInt(run, 10, 64)
	rm.mu.Lock()
	r := rm.open[id]
	rm.mu.Unlock()
	if r == nil || r.session == "" {
		return nil
	}
	return rm.Sessions.Stored(ctx, "lasting", r.session)
}

// Hold notes the session of a run, within the transaction that stores it; false if the run has ended. after is to be
// done once that is on the disk.
func (rm *Room) Hold(tx *store.Writing, run, session string) (holds bool, after func(), err error) {
	id, _ := strconv.ParseInt(run, 10, 64)
	holds, err = rm.Store.HoldRun(tx, id, session)
	return holds, func() {
		rm.mu.Lock()
		defer rm.mu.Unlock()
		if r := rm.open[id]; r != nil {
			next := *r
			next.session = session
			rm.open[id] = &next
		}
	}, err
}

// Saw notes a turn of a run, and judges it.
func (rm *Room) Saw(ctx context.Context, t crossing.Turn, reference string) {
	rm.seen(ctx, t.Run.Run, func(r *Run) {
		r.Seen = r.Seen.After(t, reference, rm.Now())
		r.recorded(reference)
	})
}

// Strayed notes that a browser which is marked for a run was refused with a message that belongs to none of its
// sign-ins. Whatever the run came to already stays.
func (rm *Room) Strayed(ctx context.Context, run string, f *finding.Finding, reference string) {
	rm.seen(ctx, run, func(r *Run) {
		if r.Seen.Result == "" {
			r.finds(f, reference)
		}
	})
}

// Also notes what was found beside the sign-in of a run. It decides nothing.
func (rm *Room) Also(ctx context.Context, run string, f *finding.Finding, reference string) {
	rm.seen(ctx, run, func(r *Run) { r.finds(f, reference) })
}

// finds keeps one more finding.
func (r *Run) finds(f *finding.Finding, reference string) {
	if f != nil && len(r.Seen.Findings) < rehearsal.MostFindings {
		r.Seen.Findings = append(slices.Clone(r.Seen.Findings), f)
		r.recorded(reference)
	}
}

// comesSoon is how long after an answer an application comes for what that promises.
const comesSoon = time.Minute

// Meanwhile notes that a request on the back channel was refused which belongs to no sign-in, with the one run that
// waits for such a request of the application; "" is one whose application is not known. It decides nothing: anybody
// can send such a request.
func (rm *Room) Meanwhile(ctx context.Context, app federation.Name, f *finding.Finding, reference string) {
	var of []int64
	rm.mu.Lock()
	for id, r := range rm.open {
		if r.Seen.Result == crossing.Entered && rm.Now().Sub(r.Seen.Ended) < comesSoon && (app == "" || app == r.About.App) &&
			len(r.Seen.Findings) < rehearsal.MostFindings {
			of = append(of, id)
		}
	}
	rm.mu.Unlock()
	if len(of) != 1 {
		return
	}
	rm.Also(ctx, strconv.FormatInt(of[0], 10), f, reference)
}

// mostTraces is how many sign-ins of a run it leads to.
const mostTraces = 20

// recorded notes the trace of a sign-in, or of a token request.
func (r *Run) recorded(reference string) {
	if reference != "" && !slices.Contains(r.Traces, reference) && len(r.Traces) < mostTraces {
		r.Traces = append(r.Traces, reference)
	}
}

// Redeemed notes that the application came for what a run gave it, or was refused there.
func (rm *Room) Redeemed(ctx context.Context, run string, f *finding.Finding) {
	rm.seen(ctx, run, func(r *Run) { r.Seen = r.Seen.Redeem(f) })
}

// Served notes what a service's token request came to: its scopes are what it was told.
func (rm *Room) Served(ctx context.Context, run, client, scope string, f *finding.Finding,
	reference string) {
	rm.seen(ctx, run, func(r *Run) {
		r.recorded(reference)
		r.Seen = rehearsal.Seen{Trace: reference, Stage: rehearsal.Done, Result: crossing.Entered, Name: client,
			Began: r.Seen.Began,
			Ended: rm.Now(), Delivered: rehearsal.Redeemed, Told: []crossing.Delivered{{Place: "token", Name: "scope",
				Values: profile.Texts(strings.Fields(scope)...)}}}
		if r.Seen.Began.IsZero() {
			r.Seen.Began = rm.Now()
		}
		if f != nil {
			r.Seen.Result, r.Seen.Finding, r.Seen.Told, r.Seen.Delivered = crossing.Refused, f, nil, ""
		}
	})
}

// seen changes what is seen of a run. A failure is logged: no sign-in waits for it.
func (rm *Room) seen(ctx context.Context, run string, do func(*Run)) {
	id, _ := strconv.ParseInt(run, 10, 64)
	err := rm.save(context.WithoutCancel(ctx), id, func(r *Run) {
		do(r)
		rm.judge(r)
	})
	if err != nil {
		rm.Log.Error("what was seen of a rehearsal cannot be kept", "run", id, "error", err)
	}
}

// Stuck notes why a run that nobody attends cannot go on.
func (rm *Room) Stuck(ctx context.Context, id int64, f *finding.Finding) error {
	return rm.save(ctx, id, func(r *Run) {
		r.Seen.Stuck = f
		rm.judge(r)
	})
}

// judge holds what is seen of a run against what is expected. What it came to stays until it comes to something else.
func (rm *Room) judge(r *Run) {
	expected, err := federation.ParseExpectations(r.Expect)
	if err != nil {
		rm.Log.Error("what a rehearsal expects cannot be read any more", "run", r.ID, "error", err)
		return
	}
	if v := rehearsal.Judge(expected, r.Seen, r.Began, rm.Now()); v.State != rehearsal.Waiting ||
		r.Verdict.State == rehearsal.Waiting {
		r.Verdict = v
	}
}

// Say takes what the tester saw the application do.
func (rm *Room) Say(ctx context.Context, by change.By, id int64, said rehearsal.Word) (Run, error) {
	r, err := rm.Get(ctx, id)
	if err != nil {
		return r, err
	}
	switch {
	case !slices.Contains(rehearsal.Symptoms, said.Symptom):
		return r, change.Field("symptom",
			errors.New("it is none; use one of let-in, error, empty-page, wrong-person, empty-account"))
	case len(said.Text) > 4000:
		return r, change.Field("text", errors.New("it is too long; paste at most 4,000 octets"))
	case r.Seen.Result != crossing.Entered:
		return r, change.Conflict("nothing was delivered to the application in this run",
			"read why in its verdict, mend that, and rehearse again")
	}
	said.By, said.At = by.Who, rm.Now()
	has, compared, err := rm.Account(ctx, r.About.App, r.Seen.Name)
	if err != nil {
		return r, err
	}
	app, _ := rm.Records.Snapshot().Application(r.About.App)
	kept := false
	say := func(r *Run) {
		kept = true
		r.Seen.Said = &said
		rm.judge(r)
		r.Verdict.Causes = rehearsal.Causes(r.Seen, rehearsal.Around{App: r.AppTitle, Start: r.Start, Compared: compared,
			Account: has, Unasked: app != nil && app.OnlyOwnStarts})
	}
	if err := rm.save(ctx, id, say); err != nil {
		return r, err
	}
	if r, err = rm.Get(ctx, id); err != nil || kept {
		return r, err
	}
	say(&r) // it has ended, be it a moment ago
	return r, rm.put(ctx, &r)
}

// put stores a run that has ended.
func (rm *Room) put(ctx context.Context, r *Run) error {
	row, err := rm.row(r)
	if err != nil {
		return err
	}
	return rm.Store.Write(ctx, func(tx *store.Writing) error { return rm.Store.PutRun(tx, row) })
}

// End ends a run, with everything that it gave: its session, grants and tokens. One that came to nothing has stopped.
func (rm *Room) End(ctx context.Context, id int64) (Run, error) {
	next, goes, err := rm.end(ctx, id)
	if err == nil && !goes {
		return rm.Get(ctx, id)
	}
	return next, err
}

// end ends a run that goes on. Nothing is noted of it meanwhile, and its session is read within the write that ends it:
// one that a crossing has just begun ends as well.
func (rm *Room) end(ctx context.Context, id int64) (next Run, goes bool, err error) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	r := rm.open[id]
	if r == nil {
		return next, false, nil
	}
	next = *r
	next.Ended, next.link, next.mark = rm.Now(), nil, nil
	if next.Verdict.State == rehearsal.Waiting {
		next.Verdict.State = rehearsal.Stopped
		if next.Seen.Stuck == nil {
			next.Halted = rehearsal.Halted(next.Seen, next.Start)
		}
	}
	row, err := rm.row(&next)
	if err != nil {
		return next, true, err
	}
	var session *crossing.Session
	err = rm.Store.Write(ctx, func(tx *store.Writing) error {
		name, err := rm.Store.RunSession(tx, id)
		if err = errors.Join(err, rm.Store.PutRun(tx, row)); err != nil || name == "" {
			return err
		}
		if session, err = rm.Sessions.In(tx, name); err == nil && session != nil {
			_, err = rm.Leaving.End(tx, session)
		}
		return err
	})
	if err != nil {
		return next, true, err
	}
	if session != nil {
		rm.Sessions.Drop(session.Ref)
		rm.Leaving.Wake()
	}
	delete(rm.open, id)
	delete(rm.byLink, string(r.link))
	delete(rm.byMark, string(r.mark))
	rm.tell(next)
	return next, true, nil
}

// Alone are the runs that go on and that nobody attends.
func (rm *Room) Alone() (out []int64) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	for id, r := range rm.open {
		if r.Unattended {
			out = append(out, id)
		}
	}
	return out
}

// Sweep ends the runs whose time is over.
func (rm *Room) Sweep(ctx context.Context) error {
	var due []int64
	rm.mu.Lock()
	for id, r := range rm.open {
		if !rm.Now().Before(r.Ends) {
			due = append(due, id)
		}
	}
	rm.mu.Unlock()
	var all error
	for _, id := range due {
		_, err := rm.End(ctx, id)
		all = errors.Join(all, err)
	}
	return all
}

// Get finds a run, also one that has ended.
func (rm *Room) Get(ctx context.Context, id int64) (Run, error) {
	rm.mu.Lock()
	r := rm.open[id]
	rm.mu.Unlock()
	if r != nil {
		return *r, nil
	}
	row, found, err := rm.Store.Run(ctx, id)
	if err == nil && !found {
		err = change.NotFound("run", strconv.FormatInt(id, 10), "")
	}
	if err != nil {
		return Run{}, err
	}
	r, err = rm.read(row)
	if err != nil {
		return Run{}, err
	}
	return *r, nil
}

// List gives the runs of a rehearsal, the newest first.
func (rm *Room) List(ctx context.Context, name string, offset, limit int) (out []Run, total int64, err error) {
	snap := rm.Records.Snapshot()
	if _, there := snap.Rehearsal(federation.Name(name)); !there {
		return nil, 0, change.NotFound("rehearsal", name, nearword.Of(name, snap.Names(federation.KindRehearsal)))
	}
	rows, total, err := rm.Store.Runs(ctx, name, offset, limit)
	for _, row := range rows {
		var r *Run
		if err == nil {
			r, err = rm.read(row)
		}
		if err == nil {
			out = append(out, *r)
		}
	}
	return out, total, err
}

// Made is somebody of whom a rehearsal made an account.
type Made = store.MadeRow

// Made are those whom rehearsals made, and who have not come for real since.
func (rm *Room) Made(ctx context.Context) ([]Made, error) { return rm.Store.Made(ctx) }

// Opened is the configuration in which the applications of runs that go on are open: that by which applications fetch
// what was made for them in a run.
func (rm *Room) Opened(snap *federation.Snapshot) *federation.Snapshot {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	for _, r := range rm.open {
		if app, there := snap.Application(r.About.App); there && app.Is(r.About.App, r.About.AppID) && !app.Phase.Passes() {
			snap = snap.Rehearsing(app, r.About.Provider)
		}
	}
	return snap
}
