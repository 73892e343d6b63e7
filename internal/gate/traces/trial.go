package traces

import (
	"context"
	"encoding/json"
	"errors"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/change"
)

// Trial is what mappings are tried on: a recorded sign-in, or values that were given.
type Trial struct {
	Trace    string // its reference; "" for the values
	Provider *federation.Provider
	App      *federation.Application
	Intake   *profile.Mapping // in place of the provider's, nil for that
	Release  *profile.Mapping // in place of the application's
	Said     crossing.Answer
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
	if t.Trace != "" {
		if in, err = rm.recorded(ctx, snap, t); err != nil {
			return out, err
		}
	}
	if in, err = t.laid(in); err != nil {
		return out, err
	}
	if in.Provider != nil {
		out.Provider = in.Provider.Name
	}
	if in.App != nil {
		out.App = in.App.Name
	}
	out.Mapped, err = crossing.Try(&snap.Gate, in)
	return out, err
}

// laid has the mappings that are tried in place of those on record, if they can be saved
// there.
func (t Trial) laid(in crossing.Trial) (crossing.Trial, error) {
	if t.Intake != nil {
		if in.Provider == nil {
			return in, change.Field("provider", errors.New("an intake is that of a provider; name one"))
		}
		r := in.Provider.Copy().(*federation.Provider)
		if r.IntakeMapping = *t.Intake; federation.Check(r) != nil {
			return in, change.OfSetting(federation.Check(r))
		}
		in.Provider = r
	}
	if t.Release != nil {
		if in.App == nil {
			return in, change.Field("application", errors.New("a release is that of an application; name one"))
		}
		r := in.App.Copy().(*federation.Application)
		if r.ReleaseMapping = *t.Release; federation.Check(r) != nil {
			return in, change.OfSetting(federation.Check(r))
		}
		in.App = r
	}
	return in, nil
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
			in.Person = e.People[crossing.LinkKey(said.ProviderID, said.Subject)]
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
