package records

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/store"
)

// NewRecord is what a record is added from.
type NewRecord struct {
	Kind     federation.Kind
	Name     string
	Title    string
	Protocol string // "" for the one that knows what was handed over, else the first of the kind
	Source   Source
	Settings federation.Settings
	federation.Keeping
	Draft bool             // keep it even if values are still missing
	Phase federation.Phase // "" for live, unless values are missing

	AllowUnsolicited bool // of a provider

	Provider string // of an application: "" leaves it to the routing
	OwnStart string // address of its own start, if it accepts no other
	OwnHosts listed.Words
}

// Add takes in what is known of a provider or an application. Nothing is stored unless all
// of it is in order.
func (rm *Room) Add(ctx context.Context, by change.By, n NewRecord) (federation.Record, error) {
	r, err := rm.Make(n)
	if err != nil {
		return nil, err
	}
	secret := ""
	if r, err = rm.add(ctx, by, r, n.Source, n.Draft, &secret); err != nil {
		return nil, err
	}
	if a, is := r.Copy().(*federation.Application); is {
		a.Shown = secret
		return a, nil
	}
	return r, nil
}

// AddProvider takes in what is known of a provider.
func (rm *Room) AddProvider(ctx context.Context, by change.By, n NewRecord) (*federation.Provider, error) {
	n.Kind = federation.KindProvider
	r, err := rm.Add(ctx, by, n)
	if err != nil {
		return nil, err
	}
	return r.(*federation.Provider), nil
}

// AddApplication takes in what is known of an application.
func (rm *Room) AddApplication(ctx context.Context, by change.By, n NewRecord) (*federation.Application, error) {
	n.Kind = federation.KindApplication
	r, err := rm.Add(ctx, by, n)
	if err != nil {
		return nil, err
	}
	return r.(*federation.Application), nil
}

// Make makes a record with nothing of the other side in it yet.
func (rm *Room) Make(n NewRecord) (federation.Record, error) {
	if n.Protocol == "" {
		n.Protocol = rm.recognized(n.Kind, n.Source)
	}
	by, err := rm.protocol(n.Protocol, string(n.Kind))
	if err != nil {
		return nil, err
	}
	var r federation.Record
	switch self := &rm.Snapshot().Gate; n.Kind {
	case federation.KindProvider:
		r = &federation.Provider{Side: by.NewProvider(self, federation.Name(n.Name)),
			ProviderSettings: federation.ProviderSettings{AllowUnsolicited: n.AllowUnsolicited}}
	default:
		a := &federation.Application{Side: by.NewApplication(self, federation.Name(n.Name))}
		a.Provider, a.OwnStart, a.OnlyOwnStarts, a.OwnHosts = federation.Name(n.Provider), n.OwnStart, n.OwnStart != "",
			n.OwnHosts
		if _, said := n.Settings["onlyOwnStarts"]; n.Settings["ownStart"] != nil && !said {
			a.OnlyOwnStarts = n.Settings["ownStart"] != ""
		}
		r = a
	}
	b := r.Basic()
	b.ID, b.Name, b.Added, b.Revision = federation.ID(random.ID()), federation.Name(n.Name), rm.now().UTC(), 1
	b.Keeping, b.Phase, b.Title = n.Keeping, n.Phase, n.Title
	return r, rm.begin(r, rm.beginning(n))
}

// beginning are the settings of a new record, with what the gate begins with where they say nothing.
func (rm *Room) beginning(n NewRecord) federation.Settings {
	out := maps.Clone(n.Settings)
	if out == nil {
		out = federation.Settings{}
	}
	phase, everyone := rm.Snapshot().NewRecord(n.Kind)
	if _, said := out["phase"]; !said && n.Phase == "" && phase != "" && !n.Draft {
		out["phase"] = string(phase)
	}
	if _, said := out["everyone"]; !said && everyone != "" {
		out["everyone"] = everyone
	}
	return out
}

// recognized is the protocol that something handed over is of, "" if none knows it.
func (rm *Room) recognized(kind federation.Kind, s Source) string {
	for _, by := range rm.order {
		if by.Recognizes(kind, s.Document, s.Address, s.Typed) {
			return by.Name()
		}
	}
	return ""
}

// Rotate gives an application another secret; it is given back once, if it was made
// here. revision is the one that the change was made from, 0 for whatever it is at.
func (rm *Room) Rotate(ctx context.Context, by change.By, name string, revision int,
	how federation.Rotation) (*federation.Application, error) {
	var shown *federation.Application
	err := rm.Change(ctx, by, func(now *federation.Snapshot) (Plan, error) {
		o, err := rm.find(now, federation.Ref{Kind: federation.KindApplication, Name: federation.Name(name)})
		if err != nil {
			return Plan{}, err
		}
		old := o.(*federation.Application)
		if revision != 0 && old.Revision != revision {
			return Plan{}, change.Stale(change.KindApplication, name, old.Revision, revision)
		}
		side := old.Side.Can().Rotating
		if side == nil {
			return Plan{}, change.Conflict("the application "+name+" has no secret", "its protocol, "+old.Protocol()+
				", knows none")
		}
		next, secret, err := side.Rotate(how, random.Text, rm.now())
		if err != nil {
			return Plan{}, change.OfSetting(err)
		}
		r := old.Copy().(*federation.Application)
		r.Side = next
		r.Revision++
		shown = r.Copy().(*federation.Application)
		shown.Shown = secret
		return Puts(r, "changed"), nil
	})
	return shown, err
}

// begin lays settings over those of a new record.
func (rm *Room) begin(r federation.Record, s federation.Settings) error {
	if err := change.OfSetting(federation.Apply(r, s)); err != nil {
		return err
	}
	federation.Replace(r, r.Part().Named(&rm.Snapshot().Gate, r.Basic().Name))
	return nil
}

// protocol finds a protocol by name, "" for the first one that has records of
// the kind.
func (rm *Room) protocol(name, kind string) (crossing.Protocol, error) {
	var names []string
	for _, p := range rm.order {
		has := p.Applications()
		if kind == change.KindProvider {
			has = p.Providers()
		}
		if has && (name == "" || p.Name() == name) {
			return p, nil
		}
		if has {
			names = append(names, p.Name())
		}
	}
	return nil, change.Field("protocol", fmt.Errorf("no %s can speak %q; use one of %s", kind, name,
		strings.Join(names, ", ")))
}

// Free sees whether a name can be given to a new record.
func (rm *Room) Free(snap *federation.Snapshot, kind, name string) error {
	n, err := federation.ParseName(name)
	if err != nil {
		return change.Field("name", err)
	}
	_, taken := snap.Record(federation.Kind(kind), n)
	for _, p := range rm.order {
		taken = taken || p.Reserved(federation.Kind(kind), n)
	}
	if taken {
		return change.Field("name", finding.New(finding.NameTaken, finding.Fact(federation.Kind(kind).Title(), name)))
	}
	return nil
}

// add fills a new record from its source and saves it. A secret that is made with
// it goes into secret.
func (rm *Room) add(ctx context.Context, by change.By, r federation.Record, src Source, draft bool,
	secret *string) (federation.Record, error) {
	if err := rm.Free(rm.Snapshot(), change.KindOf(r), change.NameOf(r)); err != nil {
		return nil, err
	}
	octets, err := rm.fill(ctx, r, src, draft)
	if err != nil {
		return nil, err
	}
	if side := r.Part().Can().Making; side != nil {
		made, shown := side.Made(random.Text, rm.now())
		federation.Replace(r, made)
		*secret = shown
	}
	return r, rm.Change(ctx, by, func(now *federation.Snapshot) (Plan, error) {
		for _, err := range []error{rm.Free(now, change.KindOf(r), change.NameOf(r)), change.OfSetting(federation.Fit(r))} {
			if err != nil {
				return Plan{}, err
			}
		}
		return Plan{Put: []Put{{Object: r, What: "added", Document: octets, Field: src.field(r)}},
			More: func(tx store.Tx) error { return rm.freshness.TakenIn(tx.Rows(), r) }}, nil
	})
}

// Configure lays settings over those of a record. revision is the one that the
// change was made from, 0 for whatever it is at. What is not named stays; where that comes to nothing, so
// does the revision.
func (rm *Room) Configure(ctx context.Context, by change.By, kind, name string, revision int,
	s federation.Settings) (r federation.Record, err error) {
	err = rm.Change(ctx, by, func(now *federation.Snapshot) (Plan, error) {
		o, err := rm.find(now, federation.Ref{Kind: federation.Kind(kind), Name: federation.Name(name)})
		if err != nil {
			return Plan{}, err
		}
		old, is := o.(federation.Record)
		if !is {
			return Plan{}, change.Field("kind", fmt.Errorf("a %s has no settings of this form", kind))
		}
		if revision != 0 && old.At() != revision {
			return Plan{}, change.Stale(kind, name, old.At(), revision)
		}
		if r, err = rm.changed(now, old, s); err != nil || r.At() == old.At() {
			return Plan{}, err
		}
		return Plan{Put: []Put{{Object: r, What: "changed", Field: "ownFace"}}}, nil
	})
	return r, err
}

// changed gives a record with settings laid over, at its next revision; at its
// present one if nothing is different.
func (rm *Room) changed(snap *federation.Snapshot, old federation.Record, s federation.Settings) (federation.Record,
	error) {
	r := old.Copy()
	s, stepped := back(old, s, rm.now())
	if err := change.OfSetting(federation.Apply(r, s)); err != nil {
		return nil, err
	}
	if err := rm.rolled(old, r, s, stepped); err != nil {
		return nil, err
	}
	if err := retires(snap, old, r); err != nil {
		return nil, err
	}
	federation.Replace(r, r.Part().Named(&snap.Gate, r.Basic().Name))
	if _, said := s["phase"]; !said {
		completed(snap, old, r)
	}
	if r.Basic().TrustKey != old.Basic().TrustKey {
		r.Basic().Intake.Verified = false // by the key of before; the next refresh holds it against this one
	}
	if slices.Equal(old.Describe(), r.Describe()) {
		return old, nil
	}
	r.Basic().Revision++
	return r, nil
}

// RemoveProvider removes a provider. It refuses while something names it.
func (rm *Room) RemoveProvider(ctx context.Context, by change.By, name string) error {
	return rm.Remove(ctx, by, federation.KindProvider, name)
}

// RemoveApplication removes an application.
func (rm *Room) RemoveApplication(ctx context.Context, by change.By, name string) error {
	return rm.Remove(ctx, by, federation.KindApplication, name)
}

// Provider finds a provider, or tells a near name.
func (rm *Room) Provider(name string) (*federation.Provider, error) {
	r, err := rm.Record(change.KindProvider, name)
	if err != nil {
		return nil, err
	}
	return r.(*federation.Provider), nil
}

// Application finds an application, or tells a near name.
func (rm *Room) Application(name string) (*federation.Application, error) {
	r, err := rm.Record(change.KindApplication, name)
	if err != nil {
		return nil, err
	}
	return r.(*federation.Application), nil
}

// sender resolves who the sender of a document was.
func sender(err error, side finding.Side) error {
	if f := finding.Of(err); f != nil && f.Side == finding.Sender {
		return f.From(side)
	}
	return err
}
