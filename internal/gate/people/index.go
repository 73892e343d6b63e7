package people

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/store"
)

// indexed is the setting that says that what is kept with people is looked for as this build
// does, and says by what it is proved; alike holds those who had values that only look alike.
const (
	indexed = "people-matches"
	alike   = "people-alike"
)

// Index has people of earlier builds looked for as this one does. What a provider brought
// goes on being proved as far as its record of today is trusted for it.
func (rm *Room) Index(ctx context.Context) error {
	if done, err := rm.Store.Setting(ctx, indexed, "no"); err != nil || done != "no" {
		return err
	}
	var odd []int64
	for after := int64(0); ; {
		some, err := rm.Store.People(ctx).After(after, 500)
		if err != nil {
			return err
		}
		if len(some) == 0 {
			break
		}
		after = some[len(some)-1].ID
		err = rm.Store.Change(ctx, func(tx store.Tx) error {
			for _, who := range some {
				values := slices.Clone(who.Values)
				rm.judge(values)
				if slices.ContainsFunc(values, ambiguous) {
					odd = append(odd, who.ID)
				}
				if err := tx.People().EnsureIndexed(who.ID, values); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	fell, err := rm.fell(ctx, odd)
	if err != nil {
		return err
	}
	octets, err := json.Marshal(fell)
	if err != nil {
		return err
	}
	if len(fell) > 0 {
		if err := rm.Store.SetSetting(ctx, alike, string(octets)); err != nil {
			return err
		}
	}
	return rm.Store.SetSetting(ctx, indexed, "yes")
}

// judge says by what values of earlier builds are proved that a provider brought.
func (rm *Room) judge(values []person.KeptValue) {
	snap := rm.Records.Snapshot()
	for i := range values {
		k := &values[i]
		at := slices.IndexFunc(snap.Providers(), func(p *federation.Provider) bool { return p.ID == k.From })
		for _, v := range k.Attribute.Values[min(len(k.Proofs), len(k.Attribute.Values)):] {
			by := person.NoProof
			if at >= 0 {
				by = person.Brought(snap.Providers()[at], profile.Profile{}, k.Name, v.String())
			}
			k.Proofs = append(k.Proofs, by)
		}
	}
}

// identifying are attributes whose values earlier builds compared in any case.
func identifying(name string) bool {
	return profile.Means(name, profile.ClaimEmail) || profile.Means(name, "preferred_username")
}

// ambiguous reports whether a value has letters that earlier builds took for others.
func ambiguous(k person.KeptValue) bool {
	return identifying(k.Name) && slices.ContainsFunc(k.Attribute.Values, func(v profile.Value) bool {
		return profile.Small(v.String()) != strings.ToLower(v.String())
	})
}

// fell are those of several who were taken for somebody else by earlier builds, or may have
// been, with whom they were taken for.
func (rm *Room) fell(ctx context.Context, odd []int64) (out []int64, err error) {
	add := func(id int64) {
		if !slices.Contains(out, id) {
			out = append(out, id)
		}
	}
	for _, id := range odd {
		row, err := rm.values(ctx, id)
		if err != nil {
			return nil, err
		}
		links, err := rm.Store.People(ctx).LinksOf(id)
		if err != nil {
			return nil, err
		}
		if len(links) > 1 { // by one of them they may have come into the account of another
			add(id)
		}
		for _, k := range row {
			if !ambiguous(k) {
				continue
			}
			for _, v := range k.Attribute.Values {
				others, err := rm.Store.People(ctx).Alike(v.String(), k.Name, id)
				if err != nil {
					return nil, err
				}
				for _, o := range others {
					add(id)
					add(o)
				}
			}
		}
	}
	slices.Sort(out)
	return out, nil
}

func (rm *Room) values(ctx context.Context, id int64) ([]person.KeptValue, error) {
	kept, err := rm.Store.People(ctx).Kept([]int64{id})
	if err != nil || kept[id] == nil {
		return nil, err
	}
	return kept[id].Values, nil
}

// Alike are those who had values that only look alike, and still have them.
func (rm *Room) Alike(ctx context.Context) ([]int64, error) {
	text, err := rm.Store.Setting(ctx, alike, "[]")
	if err != nil {
		return nil, err
	}
	var all []int64
	if err := json.Unmarshal([]byte(text), &all); err != nil || len(all) == 0 {
		return nil, err
	}
	var odd []int64
	for _, id := range all {
		values, err := rm.values(ctx, id)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(values, ambiguous) {
			odd = append(odd, id)
		}
	}
	return rm.fell(ctx, odd)
}

// Kept is what is kept with people and lets nobody in, for checks.
func (rm *Room) Kept(ctx context.Context) (out checks.Kept, err error) {
	snap := rm.Records.Snapshot()
	by := checks.MatchedBy(snap)
	out.Unproved = map[federation.ID][]checks.Unproved{}
	for _, p := range snap.Providers() {
		if out.Unproved[p.ID], err = rm.unproved(ctx, p.ID, by); err != nil {
			return out, err
		}
	}
	out.Subjects = map[string]bool{}
	for name := range snap.Speakers().ByName {
		if out.Subjects[name], err = rm.Store.People(ctx).IsSubject(name); err != nil {
			return out, err
		}
	}
	if out.Attributes, err = rm.Store.People(ctx).KeptAttributes(); err != nil {
		return out, err
	}
	if out.UserTypes, err = rm.marked(ctx, snap); err != nil {
		return out, err
	}
	if out.Admitted, err = rm.admitting(ctx); err != nil {
		return out, err
	}
	out.Alike, err = rm.Alike(ctx)
	return out, err
}

// marked are the user types that access rules name and that somebody has.
func (rm *Room) marked(ctx context.Context, snap *federation.Snapshot) (out []string, err error) {
	keys := map[string]string{}
	for _, r := range snap.Rules() {
		for _, t := range r.UserTypes {
			keys[profile.Key(profile.AttributeUserType, t)] = t
		}
	}
	had, err := rm.Store.People(ctx).Matching(profile.AttributeUserType, slices.Collect(maps.Keys(keys)))
	for key := range had {
		out = append(out, keys[key])
	}
	return out, err
}

// admitting are the applications that somebody is admitted to by name now.
func (rm *Room) admitting(ctx context.Context) (map[federation.ID]bool, error) {
	apps, err := rm.Store.People(ctx).AdmittingNow(rm.Now())
	out := map[federation.ID]bool{}
	for _, a := range apps {
		out[a] = true
	}
	return out, err
}

// unproved gives, for a provider, what it brought of attributes that people are found by, and
// nothing proves.
func (rm *Room) unproved(ctx context.Context, p federation.ID, attributes []string) (out []checks.Unproved,
	err error) {
	for _, a := range attributes {
		u := checks.Unproved{Attribute: a}
		if u.Count, u.People, err = rm.Store.People(ctx).Unproved(p, a); err != nil {
			return nil, err
		}
		if u.Count > 0 {
			out = append(out, u)
		}
	}
	return out, nil
}
