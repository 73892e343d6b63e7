package traces

import (
	"context"
	"slices"
	"strconv"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// Simulation is who would want to enter an application, and how. What is not said is as at their newest sign-in
// that is known.
type Simulation struct {
	App    *federation.Application
	Person int64 // 0 for somebody who has the attributes and nothing else
	// Attributes are those that the provider says, of somebody without an account.
	Attributes       []profile.Attribute
	Groups           []federation.Name // that somebody without an account is in
	Provider         *federation.Provider
	Context, Network string
	Role             string    // that is asked for
	SignedIn         time.Time // zero for now
	Now              time.Time // zero for now
}

// Simulated is what would be decided, and what the application would be told.
type Simulated struct {
	crossing.Foreseen
	Judged []policy.Judged
	Name   string // of the person
	Person int64
	Mapped crossing.Mapped
}

// Simulate tells whether somebody would enter, why, and what would be told of them. Nothing is changed.
func (rm *Room) Simulate(ctx context.Context, snap *federation.Snapshot, s Simulation) (out Simulated, err error) {
	r := &Reach{snap: snap}
	if s.Person != 0 {
		some, err := rm.store.People(ctx).Many([]int64{s.Person}, s.App.ID, "")
		if err != nil {
			return out, err
		}
		if len(some) == 0 {
			return out, &change.NotFoundError{Kind: "person", Name: strconv.FormatInt(s.Person, 10)}
		}
		r.who = some[0]
		if r.words, err = rm.words(ctx, snap, s.Person); err != nil {
			return out, err
		}
	} else {
		for _, g := range s.Groups {
			r.who.Members = append(r.who.Members, person.Membership{Kind: federation.KindGroup, Name: g,
				Source: person.FromHand})
		}
	}
	t := r.Trial(s.App, s.Provider)
	if s.Person == 0 {
		t.Said.Attributes, t.Person.Key, t.Silent = s.Attributes, "", t.Provider == nil
	}
	t.Wish.Role = s.Role
	if t.Now = s.Now; t.Now.IsZero() {
		t.Now = rm.now()
	}
	if t.Own, err = rm.Asked(ctx, s.App); err != nil {
		return out, err
	}
	said := *t.Said
	if t.Said = &said; s.Context != "" {
		said.Context = s.Context
	}
	if s.Network != "" {
		said.Network = s.Network
	}
	if said.At = s.SignedIn; said.At.IsZero() {
		said.At = t.Now
	}
	out.Name, out.Person = person.NameOf(t.Person), s.Person
	if out.Foreseen, err = foresee(r, t); err != nil {
		return out, err
	}
	if e, err := t.Entering(); err == nil {
		out.Judged = policy.Judge(snap, s.App, e.Subject(), t.Now)
	}
	out.Mapped, err = crossing.Try(t)
	return out, err
}

// foresee decides on a trial as a sign-in does.
func foresee(r *Reach, t crossing.Trial) (crossing.Foreseen, error) {
	if f := r.unreachable(t.App); f != nil {
		return crossing.Foreseen{Decision: federation.Deny, Finding: f}, nil
	}
	e, err := t.Entering()
	if f := finding.Of(err); f != nil {
		return crossing.Foreseen{Decision: federation.Deny, Finding: f}, nil
	}
	if err != nil {
		return crossing.Foreseen{}, err
	}
	return crossing.Foresee(t.Snap, e, t.Now)
}

// Reach is somebody as they would come to applications: by what their providers said last, and by what is kept.
type Reach struct {
	snap  *federation.Snapshot
	who   store.Candidate
	words []Word // the newest first
}

// Person is who it is.
func (r *Reach) Person() person.Person { return r.who.Person }

// unreachable says why somebody cannot come to an application as who they are: it is tied to a provider that they
// have no name at, and that finds nobody by values.
func (r *Reach) unreachable(app *federation.Application) *finding.Finding {
	p, tied := r.snap.Provider(app.Provider)
	if !tied || len(r.who.Links) == 0 || slices.Contains(r.who.Links, p.ID) || len(p.MatchBy) > 0 {
		return nil
	}
	return finding.New(finding.AccessUnlinked, finding.Fact("Application", app.Name),
		finding.Fact("Its provider", p.Name))
}

// Trial is somebody's next sign-in at an application: by a provider that is named, else by the one that the
// application is tied to, else by the one of their newest sign-in, else by one that they are linked to.
func (r *Reach) Trial(app *federation.Application, by *federation.Provider) crossing.Trial {
	t := crossing.Trial{Snap: r.snap, App: app, Said: &crossing.Answer{}}
	if by == nil {
		by, _ = r.snap.Provider(app.Provider)
	}
	at := slices.IndexFunc(r.words, func(w Word) bool { return by == nil || w.Provider.ID == by.ID })
	if at >= 0 {
		Fill(&t, r.who, &r.words[at])
		t.Provider, _ = r.snap.Provider(t.Provider.Name) // as the snapshot has it
	}
	if at >= 0 && t.Provider != nil {
		return t
	}
	Fill(&t, r.who, nil)
	t.Person.Key = ""
	for _, p := range r.snap.Providers() {
		if by == nil && slices.Contains(r.who.Links, p.ID) {
			by = p
		}
	}
	t.Provider, t.Silent = by, true
	return t
}

// LastVisit is how somebody would come to the portal if all their providers said now what they said last; of one that
// never did, or of which nothing is kept, the name alone. Whoever is linked to none comes by a provider of their
// organisations, or of the domain of an address that is kept of them; false if there is none of these either.
func (rm *Room) LastVisit(ctx context.Context, snap *federation.Snapshot, them int64) (v crossing.Visit, ok bool,
	err error) {
	some, err := rm.store.People(ctx).Many([]int64{them}, "", "")
	if err == nil && len(some) == 0 {
		err = &change.NotFoundError{Kind: "person", Name: numberOf(them)}
	}
	if err != nil {
		return v, false, err
	}
	words, err := rm.words(ctx, snap, them)
	if err != nil {
		return v, false, err
	}
	links, err := rm.store.People(ctx).LinksOf(them)
	if err != nil {
		return v, false, err
	}
	now := rm.now()
	s := &crossing.Session{Person: some[0].Person, Expires: now.Add(time.Hour)}
	add := func(p *federation.Provider, a crossing.Answer) {
		if s.Of(p) != nil {
			return
		}
		a.Provider, a.ProviderID, a.At, a.Ends = p.Name, p.ID, now, s.Expires
		s.Proofs = append(s.Proofs, a)
	}
	for _, w := range words {
		add(w.Provider, *w.Said)
	}
	for _, l := range links {
		if p, there := snap.ProviderOf(l.Provider); there && l.Subject != nil {
			add(p, crossing.Answer{Subject: *l.Subject})
		}
	}
	v = crossing.Visit{Session: s, People: map[string]person.Person{}}
	if p := usual(snap, some[0].Person); len(s.Proofs) == 0 && p != nil {
		a := crossing.Answer{Subject: profile.Subject{Value: numberOf(them)}}
		add(p, a)
		who := some[0].Person
		v.People[person.LinkKey(p.ID, a.Subject)] = who
	}
	if len(s.Proofs) > 0 {
		v.Network = s.Proofs[0].Network
	}
	return v, len(s.Proofs) > 0, nil
}

// usual is the provider by which somebody may be expected to come who never did: one of their organisations, or of the
// domain of their address.
func usual(snap *federation.Snapshot, who person.Person) *federation.Provider {
	var names []federation.Name
	for _, m := range who.Members {
		if u, there := snap.Unit(m.Kind, m.Name); there && m.Kind == federation.KindOrganisation {
			names = append(names, u.Providers...)
		}
	}
	for _, k := range who.Values {
		for _, v := range k.Attribute.Values {
			if domain, is := profile.Domain(profile.DomainOf(v.String())); is && profile.Means(k.Name, profile.ClaimEmail) {
				names = append(names, snap.ProvidersAt(domain)...)
			}
		}
	}
	for _, n := range names {
		if p, there := snap.Provider(n); there && p.Phase.Passes() {
			return p
		}
	}
	return nil
}

// Foresee decides on somebody's entry to an application now.
func (r *Reach) Foresee(app *federation.Application, now time.Time) (crossing.Foreseen, error) {
	t := r.Trial(app, nil)
	said := *t.Said
	t.Said, t.Now, said.At = &said, now, now
	return foresee(r, t)
}

// mayEnter reports whether somebody enters one of some applications, now.
func (r *Reach) mayEnter(apps []*federation.Application, now time.Time) (bool, error) {
	for _, a := range apps {
		if got, err := r.Foresee(a, now); err != nil || got.Decision != federation.Deny {
			return err == nil, err
		}
	}
	return false, nil
}

// Each goes through all people, by number, and what providers said of them in the newest so many sign-ins, 0 for
// all that are kept. each is called by two at once, and says whether it goes on.
func (rm *Room) Each(ctx context.Context, snap *federation.Snapshot, most int, each func(r *Reach) (more bool)) error {
	words, err := rm.allWords(ctx, snap, most)
	if err != nil {
		return err
	}
	pages, stop := make(chan []store.Candidate, 1), make(chan struct{})
	var once sync.Once
	var wait sync.WaitGroup
	for range 2 {
		wait.Go(func() {
			for some := range pages {
				for _, who := range some {
					if !each(&Reach{snap: snap, who: who, words: words[who.ID]}) {
						once.Do(func() { close(stop) })
						break
					}
				}
			}
		})
	}
	err = rm.pages(ctx, pages, stop)
	wait.Wait()
	return err
}

// pages hands people out, until there are no more or nobody wants them.
func (rm *Room) pages(ctx context.Context, to chan<- []store.Candidate, stop <-chan struct{}) error {
	defer close(to)
	last := int64(0)
	for {
		some, err := rm.store.People(ctx).After(last, pageOfPeople)
		if err != nil || len(some) == 0 {
			return err
		}
		select {
		case to <- some:
		case <-stop:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
		last = some[len(some)-1].ID
	}
}

// pageOfPeople is how many are looked up at once.
const pageOfPeople = 500
