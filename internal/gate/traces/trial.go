package traces

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// Trial is what mappings are tried on: a recorded sign-in, or values that were given.
type Trial struct {
	Trace    string // its reference; "" for the values
	Person   int64  // the newest recorded sign-in of whom, 0 for none
	Message  string // a pasted message of the provider, read without verifying it
	Provider *federation.Provider
	App      *federation.Application
	Intake   *profile.Mapping // in place of the provider's, nil for that
	Release  *profile.Mapping // in place of the application's
	// IntakeSet and ReleaseSet name what these are laid over, nil for what is on record.
	IntakeSet, ReleaseSet *string
	Said                  crossing.Answer
}

// Tried is what came of it, and of whose mappings.
type Tried struct {
	crossing.Mapped
	Provider, App federation.Name
}

// Try runs a recorded sign-in, or given values, through the mappings of two records,
// which may be other than they are stored. Records that are not given are those of the
// recorded sign-in.
func (rm *Room) Try(ctx context.Context, snap *federation.Snapshot, t Trial) (out Tried, err error) {
	in := crossing.Trial{Provider: t.Provider, App: t.App, Said: &t.Said}
	if t.Person != 0 {
		if t.Trace, err = rm.newest(ctx, snap, t); err != nil {
			return out, err
		}
	}
	if t.Trace != "" {
		if in, err = rm.recorded(ctx, snap, t); err != nil {
			return out, err
		}
	}
	if t.Message != "" {
		if in.Said, err = t.pasted(); err != nil {
			return out, err
		}
	}
	if in, err = t.laid(snap, in); err != nil {
		return out, err
	}
	if in.Provider != nil {
		out.Provider = in.Provider.Name
	}
	if in.App != nil {
		out.App = in.App.Name
	}
	in.Snap = snap
	out.Mapped, err = crossing.Try(in)
	return out, err
}

// pasted reads a message that somebody pasted.
func (t Trial) pasted() (*crossing.Answer, error) {
	if t.Provider == nil {
		return nil, change.Field("provider", errors.New("a message is that of a provider; name the one it is of"))
	}
	side, ok := t.Provider.Side.(crossing.Unproved)
	if !ok {
		return nil, change.Field("message", fmt.Errorf("messages of %s cannot be read here", t.Provider.Protocol()))
	}
	said, err := side.Unproved(t.Message)
	if err != nil {
		return nil, change.Field("message", err)
	}
	return said, nil
}

// newest finds the reference of somebody's newest recorded sign-in in which a provider said
// something.
func (rm *Room) newest(ctx context.Context, snap *federation.Snapshot, t Trial) (reference string, err error) {
	var links []store.LinkRow
	if err := rm.store.Read.WithContext(ctx).Where("person = ?", t.Person).Find(&links).Error; err != nil {
		return "", err
	}
	if len(links) == 0 {
		return "", change.Field("person", change.NotFound("person with a link", fmt.Sprint(t.Person), ""))
	}
	theirs := func(key string) bool {
		hash := store.Hash(key)
		return slices.ContainsFunc(links, func(l store.LinkRow) bool { return bytes.Equal(l.Key, hash) })
	}
	f := store.TraceFilter{}
	if t.Provider != nil {
		f.Provider = string(t.Provider.Name)
	}
	err = rm.store.Traces.Each(ctx, f, func(head store.TraceHead, inputs []json.RawMessage) bool {
		for _, octets := range inputs {
			var e crossing.Entry
			if json.Unmarshal(octets, &e) == nil && e.SaidIn(snap) != nil && e.Of(snap, theirs) {
				reference = head.ID
			}
		}
		return reference == ""
	})
	if err == nil && reference == "" {
		err = change.Field("person", change.NotFound("recorded sign-in of the person", fmt.Sprint(t.Person), ""))
	}
	return reference, err
}

// laid has the mappings that are tried in place of those on record, if they can be saved
// there.
func (t Trial) laid(snap *federation.Snapshot, in crossing.Trial) (crossing.Trial, error) {
	if t.Intake != nil {
		if in.Provider == nil {
			return in, change.Field("provider", errors.New("an intake is that of a provider; name one"))
		}
		r := in.Provider.Copy().(*federation.Provider)
		if r.IntakeMapping = *t.Intake; t.IntakeSet != nil {
			r.IntakeSet = federation.Name(*t.IntakeSet)
		}
		both, err := whole(snap, r)
		if err != nil {
			return in, err
		}
		in.Provider = both.(*federation.Provider)
	}
	if t.Release != nil {
		if in.App == nil {
			return in, change.Field("application", errors.New("a release is that of an application; name one"))
		}
		r := in.App.Copy().(*federation.Application)
		if r.ReleaseMapping = *t.Release; t.ReleaseSet != nil {
			r.ReleaseSet = federation.Name(*t.ReleaseSet)
		}
		both, err := whole(snap, r)
		if err != nil {
			return in, err
		}
		in.App = both.(*federation.Application)
	}
	return in, nil
}

// whole is a record over its set, if it can be saved so.
func whole(snap *federation.Snapshot, r federation.Record) (federation.Record, error) {
	both, err := snap.Resolved(r)
	if err == nil {
		err = federation.Check(r)
	}
	if err == nil && both != r {
		err = federation.Check(federation.Flat(both))
	}
	return both, change.OfSetting(err)
}

// recorded finds what a provider said in a recorded sign-in, and whose mappings counted.
func (rm *Room) recorded(ctx context.Context, snap *federation.Snapshot, t Trial) (in crossing.Trial, err error) {
	head, _, err := rm.Get(ctx, t.Trace)
	if err != nil {
		return in, err
	}
	raw, err := rm.store.Traces.Inputs(ctx, head.ID)
	if err != nil {
		return in, err
	}
	in = crossing.Trial{Provider: t.Provider, App: t.App}
	for _, octets := range raw {
		var e crossing.Entry
		if err := json.Unmarshal(octets, &e); err != nil {
			return in, err
		}
		if said := e.SaidIn(snap); said != nil {
			in.Said, in.Own = said, e.Before.AppState
			if p, ok := snap.Provider(said.Provider); ok {
				in.Person = e.People[crossing.Recognised(p, said)]
			}
		}
	}
	if in.Said == nil {
		return in, change.Field("trace", finding.New(finding.NothingSaid, finding.Fact("Trace", head.ID)))
	}
	if p, ok := snap.Provider(in.Said.Provider); ok && in.Provider == nil {
		in.Provider = p
	}
	if a, ok := snap.Application(federation.Name(head.Application)); ok && in.App == nil {
		in.App = a
	}
	if in.App == nil || in.App.Name != federation.Name(head.Application) {
		in.Own = nil // what another application asked for says nothing of this one
		in.Person = crossing.Person{}
	}
	return in, nil
}
