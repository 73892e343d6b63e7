package traces

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/trace"
	"innergate.example/innergate/internal/gate/change"
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
	// Recorded says that the application asks as it last did; otherwise it is taken that it asks
	// for all that its record lets it.
	Recorded bool
}

// Try runs a recorded sign-in, somebody's next one, a pasted message or given values through
// the mappings of two records, which may be other than they are stored. Records that are not
// given are those of the recorded sign-in.
func (rm *Room) Try(ctx context.Context, snap *federation.Snapshot, t Trial) (out Tried, err error) {
	in, err := rm.tried(ctx, snap, t)
	if err != nil {
		return out, err
	}
	if in, err = t.laid(snap, in); err != nil {
		return out, err
	}
	if in.Own == nil && in.App != nil {
		if in.Own, err = rm.Asked(ctx, in.App); err != nil {
			return out, err
		}
	}
	if in.Provider != nil {
		out.Provider = in.Provider.Name
	}
	if in.App != nil {
		out.App = in.App.Name
	}
	in.Now, out.Recorded = rm.now(), in.Own != nil
	out.Mapped, err = crossing.Try(in)
	return out, err
}

// tried is what is to be run through the mappings.
func (rm *Room) tried(ctx context.Context, snap *federation.Snapshot, t Trial) (in crossing.Trial, err error) {
	switch {
	case t.Person != 0:
		in, err = rm.OfPerson(ctx, snap, Whom{t.Person, t.App, t.Provider})
		if err == nil && in.App == nil {
			err = change.Field("person", errors.New("nobody ever heard of them; name the application that would"))
		}
		return in, err
	case t.Trace != "":
		return rm.recorded(ctx, snap, t)
	}
	in = crossing.Trial{Snap: snap, Provider: t.Provider, App: t.App, Said: &t.Said}
	if t.Message != "" {
		in.Said, err = t.pasted()
	}
	return in, err
}

// pasted reads a message that somebody pasted.
func (t Trial) pasted() (*crossing.Answer, error) {
	if t.Provider == nil {
		return nil, change.Field("provider", errors.New("a message is that of a provider; name the one it is of"))
	}
	side := crossing.Of(t.Provider.Side).Unproved
	if side == nil {
		return nil, change.Field("message", fmt.Errorf("messages of %s cannot be read here", t.Provider.Protocol()))
	}
	said, err := side.Unproved(t.Message)
	if err != nil {
		return nil, change.Field("message", err)
	}
	return said, nil
}

// laid has the mappings that are tried in place of those on record, if they can be saved
// there.
func (t Trial) laid(snap *federation.Snapshot, in crossing.Trial) (crossing.Trial, error) {
	var records []federation.Object
	if t.Intake != nil {
		if in.Provider == nil {
			return in, change.Field("provider", errors.New("an intake is that of a provider; name one"))
		}
		r := in.Provider.Copy().(*federation.Provider)
		if r.IntakeMapping = *t.Intake; t.IntakeSet != nil {
			r.IntakeSet = federation.Name(*t.IntakeSet)
		}
		records = append(records, r)
	}
	if t.Release != nil {
		if in.App == nil {
			return in, change.Field("application", errors.New("a release is that of an application; name one"))
		}
		r := in.App.Copy().(*federation.Application)
		if r.ReleaseMapping = *t.Release; t.ReleaseSet != nil {
			r.ReleaseSet = federation.Name(*t.ReleaseSet)
		}
		records = append(records, r)
	}
	for i, r := range records {
		both, err := whole(snap, r.(federation.Record))
		if err != nil {
			return in, err
		}
		switch records[i] = both; x := both.(type) {
		case *federation.Provider:
			in.Provider = x
		case *federation.Application:
			in.App = x
		}
	}
	in.Snap = snap.With(records...)
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

// recorded finds what a provider said in a recorded sign-in, who it was, and whose mappings
// counted. For another application than that of the sign-in it is what is known of them now.
func (rm *Room) recorded(ctx context.Context, snap *federation.Snapshot, t Trial) (in crossing.Trial, err error) {
	head, _, err := rm.Get(ctx, t.Trace)
	if err != nil {
		return in, err
	}
	raw, err := rm.store.Traces.Inputs(ctx, head.ID)
	if err != nil {
		return in, err
	}
	in = crossing.Trial{Snap: snap, Provider: t.Provider, App: t.App}
	if a, ok := snap.Application(federation.Name(head.Application)); ok && in.App == nil {
		in.App = a
	}
	same := in.App != nil && in.App.Name == federation.Name(head.Application)
	for _, octets := range raw {
		var e trace.Entry
		if err := json.Unmarshal(octets, &e); err != nil {
			return in, err
		}
		if same && in.Own == nil {
			in.Own = e.Asked(in.App)
		}
		said := e.SaidIn(snap)
		if said == nil {
			continue
		}
		if p, ok := snap.Provider(said.Provider); ok && in.Provider == nil {
			in.Provider = p
		}
		in.Said, in.Wish, in.Given, in.Agreed = said, e.Before.Wish, e.Given, e.Agreed
		if in.Provider != nil {
			in.Person = e.Whose(in.Provider, said)
		}
	}
	switch {
	case in.Said == nil:
		return in, change.Field("trace", finding.New(finding.NothingSaid, finding.Fact("Trace", head.ID)))
	case same || in.App == nil || in.Person.ID == 0:
		return in, nil
	}
	now, err := rm.OfPerson(ctx, snap, Whom{in.Person.ID, in.App, in.Provider})
	if gone := (*change.NotFoundError)(nil); errors.As(err, &gone) {
		return in, nil // they were removed since
	}
	in.Person, in.Own, in.Wish, in.Agreed = now.Person, now.Own, crossing.Wish{}, now.Agreed
	return in, err
}
