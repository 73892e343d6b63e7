package roll

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/store"
)

// KindPeople is the kind of what is done with many people at once, in the history.
const KindPeople = "people"

// together is how many people are stored in one transaction: for as long as it takes,
// sign-ins wait.
const together = 1000

// Progress is how far an import is.
type Progress interface {
	Set(done int64)
	Total(n int64)
}

// Import takes a list in: first it tells what would be, then, with the digest of that, it
// does just so. Rows that cannot be used are told by their lines, and then nothing is
// stored unless they are to be left out. It is stored in pieces, so that sign-ins go on:
// after a stop in the middle the same list goes on where it was.
func (rm *Room) Import(ctx context.Context, by change.By, in Import, p Progress) (*Imported, error) {
	select {
	case rm.turn <- struct{}{}:
		defer func() { <-rm.turn }()
	default:
		return nil, change.Conflict("another list is being taken in", "wait until that is done")
	}
	l, err := rm.read(ctx, in)
	if err != nil {
		return nil, err
	}
	p.Total(int64(len(l.entries)))
	out, plans, err := rm.weigh(rm.store.Read.WithContext(ctx), in, l, p.Set)
	if err == nil {
		err = rm.foresee(ctx, out, plans)
	}
	if err != nil || in.Digest == "" {
		return out, err
	}
	if err := change.Seen(in.Digest, out.Digest, "people have changed since the preview, or it was another list"); err != nil {
		return nil, err
	}
	if out.BadRows > 0 && !in.SkipBad {
		return nil, change.Field("document", fmt.Errorf("%d rows cannot be used, the first: %w; mend them, or have them left out",
			out.BadRows, out.Bad[0]))
	}
	p.Set(0)
	if len(plans) > together { // whatever becomes of it stands in the history
		if err := rm.note(ctx, by, fmt.Sprintf("begins to import people: %d new, %d changed", out.New, out.Changed)); err != nil {
			return nil, err
		}
	}
	done := 0
	for chunk := range slices.Chunk(plans, together) {
		if err := rm.put(ctx, l.by, chunk); err != nil {
			return nil, errors.Join(err, rm.note(ctx, by, fmt.Sprintf("imported %d of %d people, then stopped", done, len(plans))))
		}
		if err := rm.states(ctx, by, chunk); err != nil {
			return nil, err
		}
		done += len(chunk)
		p.Set(int64(out.Same + done))
	}
	out.Stored = true
	return out, rm.note(ctx, by, fmt.Sprintf("imported people: %d new, %d changed", out.New, out.Changed))
}

func (rm *Room) note(ctx context.Context, by change.By, what string) error {
	return rm.store.Write(ctx, func(tx *gorm.DB) error {
		return change.Note{At: rm.now(), By: by, Kind: KindPeople, Name: "import", What: what}.Write(tx)
	})
}

// states disables and enables people, with all that this takes.
func (rm *Room) states(ctx context.Context, by change.By, plans []plan) error {
	for i := range plans {
		var err error
		switch p := &plans[i]; {
		case p.disable:
			_, err = rm.accounts.Disable(ctx, by, p.person)
		case p.enable:
			_, err = rm.accounts.Enable(ctx, by, p.person)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// put stores some people, if they still are as they were looked at.
func (rm *Room) put(ctx context.Context, by string, plans []plan) error {
	sealed := make([][]byte, len(plans))
	for i := range plans {
		var err error
		if sealed[i], err = rm.people.Sealed(plans[i].keep); err != nil {
			return err
		}
	}
	ids := make([]int64, len(plans))
	err := rm.store.Write(ctx, func(tx *gorm.DB) error {
		for i := range plans {
			ids[i] = plans[i].person // it may be run again
		}
		if err := rm.unchanged(tx, by, plans); err != nil {
			return err
		}
		if err := rm.make(tx, plans, sealed, ids); err != nil {
			return err
		}
		return rm.lay(tx, plans, sealed, ids)
	})
	for i := range plans {
		plans[i].person = ids[i]
	}
	return err
}

// unchanged sees that nobody has changed, and that nobody came who a new one would be.
func (rm *Room) unchanged(tx *gorm.DB, by string, plans []plan) error {
	var ids []int64
	var terms []string
	for i := range plans {
		if p := &plans[i]; p.person != 0 {
			ids = append(ids, p.person)
		} else {
			for _, v := range p.values[by] {
				terms = append(terms, profile.Key(by, v))
			}
		}
	}
	var rows []store.PersonRow
	came, err := people.Matching(tx, profile.Word(by), terms)
	if err = errors.Join(err, tx.Where("id IN ?", ids).Find(&rows).Error); err != nil {
		return err
	}
	byID := map[int64]store.PersonRow{}
	for _, r := range rows {
		byID[r.ID] = r
	}
	for i := range plans {
		p := &plans[i]
		if row, there := byID[p.person]; p.person != 0 && p.changed(row, there) {
			return change.Conflict(fmt.Sprintf("the person of line %d has changed since the preview; what stands before it is stored", p.line),
				"look at the preview again")
		}
	}
	if len(came) > 0 {
		return change.Conflict(fmt.Sprintf("somebody of the lines from %d on came meanwhile; what stands before is stored", plans[0].line),
			"look at the preview again")
	}
	return nil
}

// make makes those who are new.
func (rm *Room) make(tx *gorm.DB, plans []plan, sealed [][]byte, ids []int64) error {
	var made []store.PersonRow
	var places []int
	for i := range plans {
		if plans[i].person == 0 {
			made, places = append(made, store.PersonRow{Identifier: random.Text(16), Added: rm.now().UTC(), Sealed: sealed[i]}), append(places, i)
		}
	}
	if len(made) == 0 {
		return nil
	}
	if err := tx.CreateInBatches(&made, 200).Error; err != nil {
		return err
	}
	for k, i := range places {
		ids[i] = made[k].ID
	}
	return nil
}

// lay lays what is kept of people, where they belong and their links in place.
func (rm *Room) lay(tx *gorm.DB, plans []plan, sealed [][]byte, ids []int64) error {
	var made, changed []people.Looked
	var members []store.MemberRow
	for i := range plans {
		p := plans[i]
		if p.person = ids[i]; plans[i].person != 0 && p.keeps {
			if err := tx.Model(&store.PersonRow{}).Where("id = ?", p.person).Update("sealed",
				sealed[i]).Error; err != nil {
				return err
			}
		}
		switch looked := (people.Looked{Person: p.person, Values: p.keep}); {
		case p.keeps && plans[i].person == 0:
			made = append(made, looked)
		case p.keeps:
			changed = append(changed, looked)
		}
		for _, m := range p.join {
			members = append(members, store.MemberRow{Person: p.person, Kind: string(m.Kind), Name: string(m.Name),
				Source: string(m.Source), Added: rm.now().UTC()})
		}
		for _, m := range p.part {
			if err := tx.Where("person = ? AND kind = ? AND name = ? AND source = ?", p.person, string(m.Kind), string(m.Name),
				string(m.Source)).Delete(&store.MemberRow{}).Error; err != nil {
				return err
			}
		}
		for _, k := range p.put {
			if err := rm.people.PutLink(tx, k, p.person); store.IsTaken(err) {
				return change.Conflict(fmt.Sprintf("the link of line %d is somebody's meanwhile; what stands before it is stored", p.line),
					"look at the preview again")
			} else if err != nil {
				return err
			}
		}
	}
	return errors.Join(people.Lookup(tx, true, made...), people.Lookup(tx, false, changed...),
		rm.people.PutMemberRows(tx, members))
}
