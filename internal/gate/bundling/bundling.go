// Package bundling gathers what somebody takes along of a sign-in, a rehearsal or a connection, and writes it as one
// file.
package bundling

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/bundle"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/trace"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/checking"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/rehearsing"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// Kinds of what a bundle can be of.
const (
	OfTrace      = "trace"
	OfRehearsal  = "rehearsal"
	OfConnection = "connection"
)

// Bounds of a bundle.
const (
	mostSignIns = 5       // of a connection
	mostMoments = 100     // of the time line
	mostMessage = 1 << 20 // octets of one message
)

// Parts are what the room works with.
type Parts struct {
	Store      *store.Store
	Records    *records.Room
	Checking   *checking.Room
	Traces     *traces.Room
	Rehearsals *rehearsing.Room
	Protocols  []crossing.Protocol
	// Names gives people's names by the numbers of their accounts.
	Names func(ctx context.Context, ids []int64) (map[int64]string, error)
}

// Room makes bundles.
type Room struct{ Parts }

// New makes the room.
func New(p Parts) *Room { return &Room{p} }

// Ask says what a bundle is to be of.
type Ask struct {
	Kind, Name string
	Run        int64 // of a rehearsal: 0 for the newest
	Whole      bool  // with values of people
	Version    string
	Confirms   string // digest of what was looked at, "" for a preview
}

// Make gathers a bundle. One that is to be written has to be what was looked at, by its digest.
func (rm *Room) Make(ctx context.Context, a Ask) (b bundle.Bundle, digest string, err error) {
	snap := rm.Records.Snapshot()
	b = bundle.Bundle{Kind: a.Kind, Of: a.Name, Gate: snap.Gate.Base, Version: a.Version}
	var more []string
	switch a.Kind {
	case OfTrace:
		err = rm.ofTrace(ctx, snap, &b, a.Name, &more)
	case OfRehearsal:
		err = rm.ofRehearsal(ctx, snap, &b, a, &more)
	case OfConnection:
		err = rm.ofConnection(ctx, snap, &b, a.Name, &more)
	default:
		err = change.Field("kind", fmt.Errorf("%q is nothing that can be taken along; use trace, rehearsal or connection",
			a.Kind))
	}
	if err == nil && !a.Whole {
		b, err = b.Mask(rm.technical(), more...)
	}
	if err != nil {
		return b, "", err
	}
	if digest, err = b.Digest(); err == nil && a.Confirms != "" && a.Confirms != digest {
		err = change.Conflict("this is not what was looked at: something was added or changed since",
			"look at the preview again, and take that along")
	}
	return b, digest, err
}

// technical are the names in messages whose values say nothing of a person.
func (rm *Room) technical() bundle.Technical {
	out := bundle.Technical{}
	for _, p := range rm.Protocols {
		f := p.Fleeting()
		for _, list := range [][]string{f.Drawn, f.Timed, f.Technical} {
			for _, name := range list {
				out[name] = true
			}
		}
	}
	return out
}

func (rm *Room) ofTrace(ctx context.Context, snap *federation.Snapshot, b *bundle.Bundle, reference string,
	more *[]string) error {
	head, err := rm.signIn(ctx, b, reference, more)
	if err != nil {
		return err
	}
	b.Of, b.Title = head.ID, "Sign-in "+head.ID
	return rm.connection(ctx, snap, b, head.Application, head.Provider)
}

// signIn adds a recorded sign-in. What could still be used is held back in it, as everywhere.
func (rm *Room) signIn(ctx context.Context, b *bundle.Bundle, reference string, more *[]string) (traces.Head, error) {
	head, steps, err := rm.Traces.Get(ctx, reference)
	if err != nil {
		return head, err
	}
	names, err := rm.Names(ctx, []int64{head.Account})
	if err != nil {
		return head, err
	}
	*more = append(*more, head.Person)
	s := bundle.RecordedSignIn{Reference: head.ID, Started: head.Started.UTC(), Application: head.Application,
		Provider: head.Provider, Person: names[head.Account], StartedBy: head.StartedBy, Result: head.Result, Finding: head.Finding, Millis: head.Millis}
	for _, st := range steps {
		message := trace.Readable(st.Octets)
		cut := st.Cut
		if len(message) > mostMessage {
			cut += len(message) - mostMessage
			message = strings.ToValidUTF8(message[:mostMessage], "")
		}
		s.Steps = append(s.Steps, bundle.RecordedStep{After: st.At.Sub(steps[0].At).Milliseconds(), From: string(st.From),
			To: string(st.To), Name: st.Name, Binding: st.Binding, Address: withoutQuery(st.Address), Message: message, Cut: cut,
			Values: st.Values, Checks: traces.Prose(st), Finding: st.Finding})
	}
	b.SignIns = append(b.SignIns, s)
	return head, nil
}

// withoutQuery is an address without what a message in it says: that stands beside it, decoded.
func withoutQuery(address string) string {
	before, _, _ := strings.Cut(address, "?")
	return before
}

func (rm *Room) ofRehearsal(ctx context.Context, snap *federation.Snapshot, b *bundle.Bundle, a Ask,
	more *[]string) error {
	plan, app, err := rm.Rehearsals.Plan(a.Name)
	if err != nil {
		return err
	}
	o, _ := snap.Object(federation.Ref{Kind: federation.KindRehearsal, Name: plan.Name})
	b.Title, b.Rehearsal = plan.Title, &bundle.Rehearsed{Name: string(plan.Name), Settings: o.Describe()}
	*more = append(*more, plan.Username)
	run, ran, err := rm.runOf(ctx, a)
	if err != nil {
		return err
	}
	provider := string(plan.By(app))
	if r := b.Rehearsal; ran {
		r.Run, r.Began, r.Verdict, r.Halted, r.Said = run.ID, run.Began.UTC(), &run.Verdict, run.Halted, run.Seen.Said
		*more = append(*more, run.Seen.Name, run.Seen.Subject)
		for _, d := range run.Seen.Told {
			for _, v := range d.Values {
				r.Told = append(r.Told, federation.Value{Label: d.Name, Value: v.String()})
			}
		}
		provider = cmp.Or(provider, string(run.Seen.Provider))
		for _, reference := range run.Traces {
			if _, err := rm.signIn(ctx, b, reference, more); err != nil && !gone(err) {
				return err
			}
		}
	}
	return rm.connection(ctx, snap, b, string(plan.App), provider)
}

// gone reports whether something is not on record any more.
func gone(err error) bool {
	var missing *change.NotFoundError
	return errors.As(err, &missing)
}

// runOf is the run that is taken along with a rehearsal.
func (rm *Room) runOf(ctx context.Context, a Ask) (run rehearsing.Run, ran bool, err error) {
	if a.Run != 0 {
		run, err = rm.Rehearsals.Get(ctx, a.Run)
		if err == nil && string(run.Rehearsal) != a.Name {
			err = change.Field("run", fmt.Errorf("run %d is of another rehearsal, %s", a.Run, run.Rehearsal))
		}
		return run, err == nil, err
	}
	all, _, err := rm.Rehearsals.List(ctx, a.Name, 0, 1)
	if err != nil || len(all) == 0 {
		return run, false, err
	}
	return all[0], true, nil
}

func (rm *Room) ofConnection(ctx context.Context, snap *federation.Snapshot, b *bundle.Bundle, name string,
	more *[]string) error {
	app, err := rm.Records.Application(name)
	if err != nil {
		return err
	}
	b.Title = "The connection of " + app.Title
	heads, _, err := rm.Traces.List(ctx, store.TraceFilter{Application: name, Limit: mostSignIns})
	if err != nil {
		return err
	}
	provider := string(app.Provider)
	for _, h := range heads {
		provider = cmp.Or(provider, h.Provider)
		if _, err := rm.signIn(ctx, b, h.ID, more); err != nil && !gone(err) {
			return err
		}
	}
	return rm.connection(ctx, snap, b, name, provider)
}

// connection adds how an application and a provider are set, what the checks find of them, and who changed them when.
func (rm *Room) connection(ctx context.Context, snap *federation.Snapshot, b *bundle.Bundle, app,
	provider string) error {
	for _, ref := range []federation.Ref{{Kind: federation.KindApplication, Name: federation.Name(app)},
		{Kind: federation.KindProvider, Name: federation.Name(provider)}} {
		r, there := snap.Record(ref.Kind, ref.Name)
		if !there {
			continue
		}
		basic := r.Basic()
		b.Records = append(b.Records, bundle.SetRecord{Kind: string(ref.Kind), Name: string(ref.Name), Title: basic.Title,
			Protocol: r.Part().Protocol(), Phase: string(basic.Phase), Revision: basic.Revision,
			Values: slices.Concat(r.Describe(), r.Part().Describe()), Given: given(snap, r)})
		all, err := rm.Checking.Check(ctx, checking.Filter{Names: []string{string(ref.Name)}, Kind: string(ref.Kind)})
		if err != nil {
			return err
		}
		for _, c := range all {
			b.Findings = append(b.Findings, c.Findings...)
		}
		if err := rm.changes(ctx, b, ref); err != nil {
			return err
		}
	}
	if b.Rehearsal != nil {
		if err := rm.changes(ctx, b, federation.Ref{Kind: federation.KindRehearsal,
			Name: federation.Name(b.Rehearsal.Name)}); err != nil {
			return err
		}
	}
	slices.SortStableFunc(b.TimeLine, func(x, y bundle.Moment) int { return y.At.Compare(x.At) })
	b.TimeLine = b.TimeLine[:min(len(b.TimeLine), mostMoments)]
	slices.SortStableFunc(b.Findings, func(x, y *finding.Finding) int { return x.Severity.Compare(y.Severity) })
	return nil
}

func (rm *Room) changes(ctx context.Context, b *bundle.Bundle, ref federation.Ref) error {
	rows, _, err := rm.Records.History(ctx, records.HistoryFilter{Kind: string(ref.Kind), Name: string(ref.Name),
		Limit: 50})
	for _, r := range rows {
		what := fmt.Sprintf("%s %s: %s", r.Kind, r.Name, r.What)
		if r.Why != "" {
			what += " (" + r.Why + ")"
		}
		b.TimeLine = append(b.TimeLine, bundle.Moment{At: r.At.UTC().Truncate(time.Second), Who: r.Who, What: what})
	}
	return err
}

// given is what the other side is given by the gate.
func given(snap *federation.Snapshot, r federation.Record) []federation.Value {
	var (
		out   []federation.Value
		sheet federation.Sheet
	)
	switch r := r.(type) {
	case *federation.Provider:
		sheet = r.Side.Sheet(snap, r)
	case *federation.Application:
		sheet = r.Side.Sheet(snap, r)
	}
	for _, v := range sheet.Values {
		out = append(out, federation.Value{Label: v.Label, Value: v.Value})
	}
	return out
}
