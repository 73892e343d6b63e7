package records

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
)

// Many is a change of many records of a kind at once: settings, or their removal.
type Many struct {
	Kind   string
	Names  []string // short names; none means all that match
	Search string   // part of a name, title or identity
	All    bool     // without names and search: really all
	Set    federation.Settings
	Remove bool
	Digest string // of the preview that was looked at
}

// ManyPreview is what a change of many records comes to.
type ManyPreview struct {
	Matched   int
	Unchanged int // have the settings already
	Changes   []ManyChange
	Refused   []ManyRefusal // with one of them, nothing is changed
	Digest    string
	// Consequence is what it does to people.
	Consequence change.Consequence
}

// ManyChange is what becomes of one of them.
type ManyChange struct {
	Name, Title string
	Differences []federation.Difference // none of one that is removed
}

// ManyRefusal is why one of them cannot be changed so.
type ManyRefusal struct {
	Name    string
	Field   string
	Cause   string
	Finding *finding.Finding
}

// PreviewMany tells what a change of many records would come to.
func (rm *Room) PreviewMany(ctx context.Context, m Many) (out ManyPreview, err error) {
	d, err := rm.laid(func(now *federation.Snapshot) (p Plan, err error) {
		p, out, err = rm.planMany(now, m)
		return p, err
	})
	if err == nil {
		out.Consequence, err = rm.weighed(ctx, d)
	}
	return out, err
}

// ChangeMany changes many records at once: all of them, or none. The changes share
// a number, by which they can be taken back.
func (rm *Room) ChangeMany(ctx context.Context, by change.By, m Many) (out ManyPreview, number int64, err error) {
	var took change.Consequence
	by.Together, by.Took = &change.Together{}, &took
	err = rm.Change(ctx, by, func(now *federation.Snapshot) (p Plan, err error) {
		if p, out, err = rm.planMany(now, m); err != nil {
			return p, err
		}
		if err := change.Seen(m.Digest, out.Digest, "what would be changed is not what was looked at"); err != nil {
			return p, err
		}
		if len(out.Refused) > 0 {
			r := out.Refused[0]
			return p, change.Field(cmp.Or(r.Field, "set"), fmt.Errorf("%s cannot be changed so: %s; nothing was changed",
				r.Name, r.Cause))
		}
		return p, nil
	})
	out.Consequence = took
	return out, by.Together.Number, err
}

// planMany decides what becomes of each record.
func (rm *Room) planMany(snap *federation.Snapshot, m Many) (p Plan, out ManyPreview, err error) {
	all, err := rm.matching(snap, m)
	if err != nil {
		return p, out, err
	}
	out = ManyPreview{Matched: len(all), Changes: []ManyChange{}, Refused: []ManyRefusal{}}
	for _, old := range all {
		b := old.Basic()
		if m.Remove {
			p.Removed = append(p.Removed, old)
			out.Changes = append(out.Changes, ManyChange{Name: string(b.Name), Title: b.Title})
			continue
		}
		r, err := rm.changed(snap, old, m.Set)
		put := Put{Object: r, What: "changed", Field: "ownFace"}
		if err == nil && r != old {
			err = rm.recordFits(snap, snap, put)
		}
		switch {
		case err != nil:
			refusal := ManyRefusal{Name: string(b.Name), Cause: err.Error(), Finding: finding.Of(err)}
			if fe := (*change.FieldError)(nil); errors.As(err, &fe) {
				refusal.Field = fe.Field
			}
			out.Refused = append(out.Refused, refusal)
		case r == old:
			out.Unchanged++
		default:
			p.Put = append(p.Put, put)
			out.Changes = append(out.Changes, ManyChange{string(b.Name), b.Title,
				federation.Differences(old.Describe(), r.Describe())})
		}
	}
	p.Removed = withRules(snap, p.Removed)
	if err := unnamed(rm.over(snap, p), p.Removed); err != nil {
		return p, out, err
	}
	out.Digest, err = m.digest(all)
	return p, out, err
}

// matching are the records that are meant.
func (rm *Room) matching(snap *federation.Snapshot, m Many) (out []federation.Record, err error) {
	switch {
	case m.Kind != change.KindProvider && m.Kind != change.KindApplication:
		return nil, change.Field("kind", fmt.Errorf("there is no kind %q; say provider or application", m.Kind))
	case m.Remove == (len(m.Set) > 0):
		return nil, change.Field("set", errors.New("say either which settings change, or that the records are removed"))
	case len(m.Names) == 0 && m.Search == "" && !m.All:
		return nil, change.Field("names", errors.New("nothing is chosen; give names, a search, or say all"))
	case len(m.Names) > 0 && (m.Search != "" || m.All):
		return nil, change.Field("names", errors.New("names and a search were given; give one of them"))
	}
	seen := map[string]bool{}
	for _, n := range m.Names {
		r, err := rm.Record(m.Kind, n)
		if err != nil {
			return nil, err
		}
		if !seen[n] {
			out, seen[n] = append(out, r), true
		}
	}
	if len(m.Names) > 0 {
		return out, nil
	}
	if m.Kind == change.KindProvider {
		found, _ := snap.FindProviders(m.Search, 0, len(snap.Providers()))
		for _, p := range found {
			out = append(out, p)
		}
		return out, nil
	}
	found, _ := snap.FindApplications(m.Search, 0, len(snap.Applications()))
	for _, a := range found {
		out = append(out, a)
	}
	return out, nil
}

// digest is short for what would be done to which records.
func (m Many) digest(all []federation.Record) (string, error) {
	set, err := json.Marshal(m.Set)
	parts := []any{m.Kind, m.Remove, string(set)}
	for _, r := range all {
		parts = append(parts, r.Basic().Name, r.Basic().Revision)
	}
	return change.Digest(parts...), err
}
