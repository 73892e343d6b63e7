package people

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
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
	if done, err := rm.store.Setting(ctx, indexed, "no"); err != nil || done != "no" {
		return err
	}
	var odd []int64
	for after := int64(0); ; {
		var rows []store.PersonRow
		err := rm.store.Read.WithContext(ctx).Where("id > ?", after).Order("id").Limit(500).Find(&rows).Error
		if err != nil {
			return err
		}
		if len(rows) == 0 {
			break
		}
		after = rows[len(rows)-1].ID
		err = rm.store.Write(ctx, func(tx *gorm.DB) error {
			for _, row := range rows {
				values, err := rm.Values(row.Sealed)
				if err != nil {
					return err
				}
				rm.judge(values)
				if slices.ContainsFunc(values, ambiguous) {
					odd = append(odd, row.ID)
				}
				if err = rm.Keep(tx, row.ID, values); err == nil {
					err = errors.Join(rm.SubjectTerms(tx, row.ID), rm.nameSubjects(tx, row.ID))
				}
				if err != nil {
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
	return rm.store.Write(ctx, func(tx *gorm.DB) error {
		if len(fell) > 0 {
			if err := tx.Save(&store.SettingRow{Key: alike, Value: string(octets)}).Error; err != nil {
				return err
			}
		}
		return tx.Save(&store.SettingRow{Key: indexed, Value: "yes"}).Error
	})
}

// judge says by what values of earlier builds are proved that a provider brought.
func (rm *Room) judge(values []crossing.KeptValue) {
	snap := rm.records.Snapshot()
	for i := range values {
		k := &values[i]
		at := slices.IndexFunc(snap.Providers(), func(p *federation.Provider) bool { return p.ID == k.From })
		for _, v := range k.Attribute.Values[min(len(k.Proofs), len(k.Attribute.Values)):] {
			by := crossing.NoProof
			if at >= 0 {
				by = crossing.Brought(snap.Providers()[at], profile.Profile{}, k.Name, v.String())
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
func ambiguous(k crossing.KeptValue) bool {
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
		var links int64
		row, err := rm.values(ctx, id)
		if err == nil {
			err = rm.store.Read.WithContext(ctx).Model(&store.LinkRow{}).Where("person = ?", id).Count(&links).Error
		}
		if err != nil {
			return nil, err
		}
		if links > 1 { // by one of them they may have come into the account of another
			add(id)
		}
		for _, k := range row {
			if !ambiguous(k) {
				continue
			}
			for _, v := range k.Attribute.Values {
				var others []int64
				err := rm.store.Read.WithContext(ctx).Model(&store.TermRow{}).Where("term = ? AND attribute = ? AND person <> ?",
					profile.Fold(v.String()), profile.Word(k.Name), id).Order("person").Limit(crossing.MostCandidates).Pluck("person", &others).Error
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

func (rm *Room) values(ctx context.Context, id int64) ([]crossing.KeptValue, error) {
	var row store.PersonRow
	if err := rm.store.Read.WithContext(ctx).Where("id = ?", id).Limit(1).Find(&row).Error; err != nil {
		return nil, err
	}
	return rm.Values(row.Sealed)
}

// Alike are those who had values that only look alike, and still have them.
func (rm *Room) Alike(ctx context.Context) ([]int64, error) {
	text, err := rm.store.Setting(ctx, alike, "[]")
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
	snap := rm.records.Snapshot()
	by := checks.MatchedBy(snap)
	out.Unproved = map[federation.ID][]checks.Unproved{}
	for _, p := range snap.Providers() {
		if out.Unproved[p.ID], err = rm.unproved(ctx, p.ID, by); err != nil {
			return out, err
		}
	}
	out.Subjects = map[string]bool{}
	for name := range snap.Speakers().ByName {
		if out.Subjects[name], err = rm.IsSubject(rm.store.Read.WithContext(ctx), name); err != nil {
			return out, err
		}
	}
	if out.Attributes, err = rm.KeptAttributes(ctx); err != nil {
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
	had, err := Matching(rm.store.Read.WithContext(ctx), profile.AttributeUserType, slices.Collect(maps.Keys(keys)))
	for key := range had {
		out = append(out, keys[key])
	}
	return out, err
}

// admitting are the applications that somebody is admitted to by name now.
func (rm *Room) admitting(ctx context.Context) (map[federation.ID]bool, error) {
	var apps []federation.ID
	err := rm.store.Read.WithContext(ctx).Model(&store.AdmissionRow{}).Where("until IS NULL OR until > ?", rm.now().UTC()).
		Distinct("app").Pluck("app", &apps).Error
	out := map[federation.ID]bool{}
	for _, a := range apps {
		out[a] = true
	}
	return out, err
}

// KeptAttributes are the names of all that is kept with anybody. It goes from one name to the
// next by the index, however many people there are.
func (rm *Room) KeptAttributes(ctx context.Context) (out []string, err error) {
	err = rm.store.Read.WithContext(ctx).Raw(`WITH RECURSIVE each(name) AS (SELECT min(attribute) FROM match_rows UNION ALL
		SELECT (SELECT min(attribute) FROM match_rows WHERE attribute > each.name) FROM each WHERE each.name IS NOT NULL)
		SELECT name FROM each WHERE name IS NOT NULL`).Scan(&out).Error
	return out, err
}

// Names are what people read of accounts: what is kept of their names, else what a provider
// calls them.
func (rm *Room) Names(ctx context.Context, ids []int64) (map[int64]string, error) {
	out := map[int64]string{}
	if len(ids) == 0 {
		return out, nil
	}
	all, err := rm.Many(ctx, ids, "", "")
	for _, p := range all {
		out[p.ID] = crossing.NameOf(p.Person, p.Subject.Value)
	}
	return out, err
}

// unproved gives, for a provider, what it brought of attributes that people are found by, and
// nothing proves.
func (rm *Room) unproved(ctx context.Context, p federation.ID, attributes []string) (out []checks.Unproved, err error) {
	for _, a := range attributes {
		u := checks.Unproved{Attribute: a}
		of := rm.store.Read.WithContext(ctx).Model(&store.MatchRow{}).
			Where("source = ? AND attribute = ? AND proved = 0", string(p), a).Session(&gorm.Session{})
		if err = of.Distinct("person").Count(&u.Count).Error; err == nil && u.Count > 0 {
			err = of.Distinct("person").Order("person").Limit(10).Pluck("person", &u.People).Error
			out = append(out, u)
		}
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}
