package comparing

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/compare"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// Identifiers that are none of an attribute.
const (
	toldName = "name told" // NameID or sub
	known    = "profile:"  // before an attribute of the profile
)

// candidates are the people an application may be told of, and what it would be told.
func (rm *Room) candidates(ctx context.Context, app *federation.Application, group string, p Progress) (compare.People,
	error) {
	ids, err := rm.scope(ctx, app, group)
	if err != nil {
		return compare.People{}, err
	}
	p.Total(int64(len(ids)))
	g := &gathering{snap: rm.records.Snapshot(), app: app, now: rm.now(), at: map[string]int{}}
	if g.words, err = rm.traces.Words(ctx, g.snap, app); err != nil {
		return compare.People{}, err
	}
	if g.own, err = rm.traces.Asked(ctx, app); err != nil {
		return compare.People{}, err
	}
	if p, tied := g.snap.Provider(app.Provider); tied {
		g.first = p.ID
	}
	chunks := slices.Collect(slices.Chunk(ids, 1000))
	out := make([][]would, len(chunks))
	var wait sync.WaitGroup
	var mu sync.Mutex
	var failed error
	next, done := 0, int64(0)
	for range 2 {
		wait.Go(func() {
			for {
				mu.Lock()
				i := next
				next++
				stop := failed != nil || i >= len(chunks) || ctx.Err() != nil
				mu.Unlock()
				if stop {
					return
				}
				some, err := rm.told(ctx, g, chunks[i])
				mu.Lock()
				out[i] = some
				if done += int64(len(chunks[i])); err != nil {
					failed = err
				}
				p.Set(done)
				mu.Unlock()
			}
		})
	}
	wait.Wait()
	if failed != nil {
		return compare.People{}, failed
	}
	return g.people(out), ctx.Err()
}

// scope are the people who may come: of a group, else those of the provider that the
// application is tied to and those who have not come yet, else all.
func (rm *Room) scope(ctx context.Context, app *federation.Application, group string) (ids []int64, err error) {
	q := rm.store.Read.WithContext(ctx).Table("person_rows p").Order("p.id")
	snap := rm.records.Snapshot()
	if p, tied := snap.Provider(app.Provider); tied {
		q = q.Where(`p.id IN (SELECT l.person FROM link_rows l WHERE l.provider = ?) OR NOT EXISTS
			(SELECT 1 FROM link_rows l WHERE l.person = p.id)`, string(p.ID))
	}
	if group != "" {
		g, err := rm.records.Unit(federation.KindGroup, group)
		if err != nil {
			return nil, change.Field("group", err)
		}
		names := []string{}
		for _, n := range snap.Within(g.Name) {
			names = append(names, string(n))
		}
		q = q.Where("p.id IN (SELECT m.person FROM member_rows m WHERE m.kind = ? AND m.name IN ?)",
			string(federation.KindGroup), names)
	}
	return ids, q.Pluck("p.id", &ids).Error
}

// would is what an application would be told of one person.
type would struct {
	person compare.Person
	came   bool // a sign-in is recorded: what they are told is known, not only what the gate knows
	values map[string][]string
}

// gathering is what people are run through.
type gathering struct {
	snap  *federation.Snapshot
	app   *federation.Application
	own   json.RawMessage // how it asks
	words map[int64]traces.Word
	now   time.Time
	at    map[string]int
	// first is the provider whose names for people go before others.
	first federation.ID
}

// told runs some people through the mappings.
func (rm *Room) told(ctx context.Context, g *gathering, ids []int64) ([]would, error) {
	some, err := rm.store.People(ctx).Many(ids, g.app.ID, g.first)
	if err != nil {
		return nil, err
	}
	out := make([]would, 0, len(some))
	for _, p := range some {
		out = append(out, g.one(p))
	}
	return out, nil
}

// one is what the application would be told of somebody.
func (g *gathering) one(p store.Candidate) would {
	t := crossing.Trial{Snap: g.snap, App: g.app, Own: g.own, Said: &crossing.Answer{}, Now: g.now}
	word, came := g.words[p.Person.ID]
	if came {
		traces.Fill(&t, p, &word)
	} else {
		traces.Fill(&t, p, nil)
	}
	out := would{came: came, person: compare.Person{Number: p.Person.ID, Name: person.NameOf(p.Person),
		Disabled: p.Person.Disabled},
		values: map[string][]string{}}
	m, err := crossing.Try(t)
	if err != nil {
		return out
	}
	if r := m.Released; r != nil {
		switch {
		case r.Name.Derived():
			out.values[toldName] = []string{crossing.Derive(g.snap.Gate.Pairwise, p.Person.Identifier, r.Name.For)}
		case r.Name.Value != "":
			out.values[toldName] = []string{r.Name.Value}
		}
	}
	for _, a := range m.Told {
		add(out.values, a.Name, a.Values)
	}
	for _, a := range m.Profile.Attributes {
		if name := profile.Word(a.Name); out.values[name] == nil && out.values[a.Name] == nil {
			add(out.values, known+name, a.Values)
		}
	}
	return out
}

// mostOfOne is how many values of one attribute may identify somebody.
const mostOfOne = 5

func add(to map[string][]string, name string, values []profile.Value) {
	for _, v := range values {
		if s := v.String(); s != "" && len(s) <= 300 && v.Type() != profile.Structure && v.Type() != profile.Boolean &&
			len(to[name]) < mostOfOne {
			to[name] = append(to[name], s)
		}
	}
}

// telling is the rule by which an application would be told an attribute of the profile that it is
// not told yet, under the name that its protocol has for it.
func telling(app *federation.Application, identifier string) *profile.Rule {
	name, untold := strings.CutPrefix(identifier, known)
	if !untold {
		return nil
	}
	r := &profile.Rule{To: profile.Target{Name: name}, From: []profile.Source{{Attribute: name}}}
	standard := profile.Known(name, "")
	if crossing.Of(app.Side).Consenting != nil && standard != nil && standard.Claim != "" {
		r.To.Name = standard.Claim
	}
	return r
}

// merge takes what is known of somebody who has not come yet for what the application is told of
// others under another name for the same: it will be told it once they come.
func merge(all [][]would) {
	names := map[string][]string{} // those told, by what they mean
	for _, some := range all {
		for _, t := range some {
			for name := range t.values {
				if word := profile.Word(name); !strings.HasPrefix(name, known) && name != toldName &&
					!slices.Contains(names[word], name) {
					names[word] = append(names[word], name)
				}
			}
		}
	}
	for _, some := range all {
		for _, t := range some {
			if t.came {
				continue
			}
			for name, values := range t.values {
				word, untold := strings.CutPrefix(name, known)
				if !untold || names[word] == nil {
					continue
				}
				for _, told := range names[word] {
					if t.values[told] == nil {
						t.values[told] = values
					}
				}
				delete(t.values, name)
			}
		}
	}
}

// people puts together what was gathered, by identifiers that everybody shares.
func (g *gathering) people(all [][]would) compare.People {
	var out compare.People
	merge(all)
	for _, some := range all {
		for _, t := range some {
			for name := range t.values {
				if _, there := g.at[name]; !there {
					g.at[name] = 0
					out.Identifiers = append(out.Identifiers, name)
				}
			}
		}
	}
	slices.SortFunc(out.Identifiers, before)
	for i, name := range out.Identifiers {
		g.at[name] = i
		out.Shared = append(out.Shared, several[profile.Word(strings.TrimPrefix(name, known))])
	}
	for _, some := range all {
		for _, t := range some {
			t.person.Values = make([][]string, len(out.Identifiers))
			for name, values := range t.values {
				t.person.Values[g.at[name]] = values
			}
			out.All = append(out.All, t.person)
		}
	}
	return out
}

// several are attributes that several people may have alike.
var several = map[string]bool{"displayName": true, "name.givenName": true, "name.familyName": true,
	"name.middleName": true,
	"nickName":        true, "title": true, "department": true, "division": true, "costCenter": true, "locale": true,
	"timezone":              true,
	profile.AttributeGroups: true, profile.AttributeOrganization: true, profile.AttributeUserType: true}

// before puts the name first, and what is told before what is only known here.
func before(a, b string) int {
	rank := func(s string) int {
		switch {
		case s == toldName:
			return 0
		case len(s) > len(known) && s[:len(known)] == known:
			return 2
		}
		return 1
	}
	if x, y := rank(a), rank(b); x != y {
		return x - y
	}
	if a < b {
		return -1
	}
	return 1
}
