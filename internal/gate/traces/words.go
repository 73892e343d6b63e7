package traces

import (
	"bytes"
	"context"
	"encoding/json"
	"slices"
	"strconv"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/trace"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// Word is what a provider said of somebody at their newest recorded sign-in, whole.
type Word struct {
	Provider *federation.Provider
	Said     *crossing.Answer
	App      string // that they signed in to
}

// Words finds the word of everybody who came by a provider that an application takes people
// of, by their numbers.
func (rm *Room) Words(ctx context.Context, snap *federation.Snapshot, app *federation.Application) (map[int64]Word,
	error) {
	byKey := map[string]Word{}
	err := rm.said(ctx, snap, store.TraceFilter{Provider: string(app.Provider)}, func(key string, w Word) bool {
		if _, newer := byKey[key]; !newer {
			byKey[key] = w
		}
		return true
	})
	if err != nil {
		return nil, err
	}
	keys := make([]string, 0, len(byKey))
	for key := range byKey {
		keys = append(keys, key)
	}
	of, err := rm.store.People(ctx).ByKeys(keys)
	out := map[int64]Word{}
	for key, person := range of {
		out[person] = byKey[key]
	}
	return out, err
}

// allWords finds the newest word of each provider on everybody, by their numbers, the newest first; of the newest
// so many sign-ins, 0 for all that are kept.
func (rm *Room) allWords(ctx context.Context, snap *federation.Snapshot, most int) (map[int64][]Word, error) {
	byKey, order, looked := map[string]Word{}, []string{}, 0
	err := rm.said(ctx, snap, store.TraceFilter{}, func(key string, w Word) bool {
		if _, newer := byKey[key]; !newer {
			byKey[key], order = w, append(order, key)
		}
		looked++
		return most == 0 || looked < most
	})
	if err != nil {
		return nil, err
	}
	of, err := rm.store.People(ctx).ByKeys(order)
	out := map[int64][]Word{}
	for _, key := range order {
		if person, linked := of[key]; linked {
			out[person] = append(out[person], byKey[key])
		}
	}
	return out, err
}

// words finds the newest words on one person, of each of their links.
func (rm *Room) words(ctx context.Context, snap *federation.Snapshot, person int64) (out []Word, err error) {
	var links []store.LinkRow
	if err := rm.store.Read.WithContext(ctx).Where("person = ?", person).Find(&links).Error; err != nil ||
		len(links) == 0 {
		return nil, err
	}
	err = rm.said(ctx, snap, store.TraceFilter{Account: person}, func(key string, w Word) bool {
		hash := store.Hash(key)
		at := slices.IndexFunc(links, func(l store.LinkRow) bool { return bytes.Equal(l.Key, hash) })
		if at >= 0 {
			out, links = append(out, w), slices.Delete(links, at, at+1)
		}
		return len(links) > 0
	})
	return out, err
}

// word finds that of one person, nil if none was recorded.
func (rm *Room) word(ctx context.Context, snap *federation.Snapshot, person int64, provider string) (out *Word,
	err error) {
	var links []store.LinkRow
	if err := rm.store.Read.WithContext(ctx).Where("person = ?", person).Find(&links).Error; err != nil ||
		len(links) == 0 {
		return nil, err
	}
	err = rm.said(ctx, snap, store.TraceFilter{Provider: provider, Account: person}, func(key string, w Word) bool {
		hash := store.Hash(key)
		if slices.ContainsFunc(links, func(l store.LinkRow) bool { return bytes.Equal(l.Key, hash) }) {
			out = &w
		}
		return out == nil
	})
	return out, err
}

// said goes back through what providers said, by link key, until it is told to stop. What was
// kept only in part is passed over: it says something else than the provider did.
func (rm *Room) said(ctx context.Context, snap *federation.Snapshot, of store.TraceFilter,
	each func(key string, w Word) bool) error {
	return rm.store.Traces.Each(ctx, of, func(head store.TraceHead, inputs []json.RawMessage) bool {
		for _, octets := range inputs {
			var e trace.Entry
			if json.Unmarshal(octets, &e) != nil {
				continue
			}
			a := e.SaidIn(snap)
			if a == nil || len(a.Veiled) > 0 {
				continue
			}
			p, ok := snap.Provider(a.Provider)
			if !ok || !p.Is(a.Provider, a.ProviderID) {
				continue
			}
			if key := crossing.Recognised(p, a); key != "" && !each(key, Word{p, a, head.Application}) {
				return false
			}
		}
		return ctx.Err() == nil
	})
}

// mostAsked is how many sign-ins are looked through for how an application asks.
const mostAsked = 200

// Asked is how an application asked when it last did; nil if that was not recorded.
func (rm *Room) Asked(ctx context.Context, app *federation.Application) (own json.RawMessage, err error) {
	looked := 0
	err = rm.store.Traces.Each(ctx, store.TraceFilter{Application: string(app.Name)},
		func(_ store.TraceHead, inputs []json.RawMessage) bool {
			for _, octets := range inputs {
				var e trace.Entry
				if json.Unmarshal(octets, &e) == nil && own == nil {
					own = e.Asked(app)
				}
			}
			looked++
			return own == nil && looked < mostAsked && ctx.Err() == nil
		})
	return own, err
}

// OfPerson is a trial of what an application would be told of somebody at their next sign-in:
// by what their provider said last, and by what is kept of them now. Where no provider's word
// was recorded, the Provider is nil.
func (rm *Room) OfPerson(ctx context.Context, snap *federation.Snapshot, w Whom) (t crossing.Trial, err error) {
	t = crossing.Trial{Snap: snap, App: w.App, Now: rm.now(), Said: &crossing.Answer{}}
	first, by := federation.ID(""), w.Provider
	if w.App != nil && by == nil {
		by, _ = snap.Provider(w.App.Provider)
	}
	name := ""
	if by != nil {
		first, name = by.ID, string(by.Name)
	}
	word, err := rm.word(ctx, snap, w.Person, name)
	if err != nil {
		return t, err
	}
	if word != nil {
		first = word.Provider.ID
		if t.App == nil {
			t.App, _ = snap.Application(federation.Name(word.App))
		}
	}
	app := federation.ID("")
	if t.App != nil {
		app = t.App.ID
		if t.Own, err = rm.Asked(ctx, t.App); err != nil {
			return t, err
		}
	}
	some, err := rm.store.People(ctx).Many([]int64{w.Person}, app, first)
	switch {
	case err != nil:
		return t, err
	case len(some) == 0:
		return t, &change.NotFoundError{Kind: "person", Name: strconv.FormatInt(w.Person, 10)}
	}
	Fill(&t, some[0], word)
	agreed, err := rm.grants.Agreed(ctx, app, w.Person)
	t.Agreed = &agreed
	return t, err
}

// Whom is somebody of whom it is asked what an application would be told.
type Whom struct {
	Person   int64
	App      *federation.Application // nil for the one that they signed in to last
	Provider *federation.Provider    // nil for any that the application takes people of
}

// Fill puts somebody into a trial, with what their provider said, nil for nothing.
func Fill(t *crossing.Trial, who store.Candidate, word *Word) {
	t.Person, t.Said.Subject = who.Person, who.Subject
	if word != nil {
		t.Provider, t.Said = word.Provider, word.Said
		t.Person.Key = crossing.Recognised(word.Provider, word.Said)
	}
}
