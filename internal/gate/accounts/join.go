package accounts

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/store"
)

// Joining is the wish to make one account of two.
type Joining struct {
	Into, Other int64 // the one that stays, and the one that goes
	Preview     bool
	Digest      string // of the preview that was looked at
	Enable      bool   // though one of the two is disabled, the one that stays is let in
}

// Joined is what making one account of two comes to.
type Joined struct {
	Links    int      // that are the one's then
	Values   []string // attributes that the one gets of the other
	Differ   []string // attributes that stay as the one has them
	Members  int
	Subjects int      // lasting names that come along
	Lost     []string // applications that know both: the other's name there goes
	Sessions int      // of the other, which end
	// Disabled are those of the two who are disabled. The one that stays is disabled then,
	// unless that was confirmed: whoever left would come in again by their links.
	Disabled []int64
	Stays    bool // the one that stays is let in afterwards
	Digest   string

	values   []crossing.KeptValue
	sessions []store.SessionRow
}

// Join makes one account of two: the links of one come to the other, with what that has
// not; then it is gone. What it comes to is decided where it is stored, and has to be what
// was looked at.
func (rm *Room) Join(ctx context.Context, by change.By, j Joining) (*Joined, error) {
	if j.Into == j.Other {
		return nil, change.Field("other", errors.New("these are the same person; give the number of another one"))
	}
	if err := rm.unnamed(j.Other); err != nil {
		return nil, err
	}
	if j.Preview {
		return rm.weigh(rm.Store.Read.WithContext(ctx), j)
	}
	var out *Joined
	err := rm.Store.Write(ctx, func(tx *gorm.DB) (err error) {
		if out, err = rm.weigh(tx, j); err != nil {
			return err
		}
		if err := change.Seen(j.Digest, out.Digest, "one of the two has changed since the preview"); err != nil {
			return err
		}
		return rm.join(tx, by, j, out)
	})
	if err != nil {
		return nil, err
	}
	for _, s := range out.sessions {
		rm.Sessions.Drop(string(s.Hash))
	}
	rm.Leaving.Wake()
	return out, rm.Store.Traces.Reassign(ctx, j.Other, j.Into)
}

// weigh finds out what joining comes to.
func (rm *Room) weigh(db *gorm.DB, j Joining) (*Joined, error) {
	into, err := rm.row(db, j.Into)
	if err != nil {
		return nil, change.Field("person", err)
	}
	other, err := rm.row(db, j.Other)
	if err != nil {
		return nil, change.Field("other", err)
	}
	out := &Joined{}
	mine, err := rm.People.Values(into.Sealed)
	theirs, more := rm.People.Values(other.Sealed)
	if err = errors.Join(err, more); err != nil {
		return nil, err
	}
	out.values = slices.Clone(mine)
	for _, v := range theirs {
		at := slices.IndexFunc(mine, func(m crossing.KeptValue) bool { return profile.Word(m.Name) == profile.Word(v.Name) })
		switch {
		case at < 0:
			out.Values, out.values = append(out.Values, v.Name), append(out.values, v)
		case !slices.Equal(mine[at].Attribute.Values, v.Attribute.Values):
			out.Differ = append(out.Differ, v.Name)
		}
	}
	var links []store.LinkRow
	var members []store.MemberRow
	var subjects []store.SubjectRow
	var admitted []store.AdmissionRow
	err = errors.Join(db.Where("person = ?", j.Other).Order("key").Find(&links).Error,
		db.Where("person = ?", j.Other).Find(&members).Error,
		db.Where("person IN ?", []int64{j.Into, j.Other}).Order("app, person").Find(&subjects).Error,
		db.Where("person IN ?", []int64{j.Into, j.Other}).Order("app, person").Find(&admitted).Error,
		db.Where("person = ?", j.Other).Order("hash").Find(&out.sessions).Error)
	if err != nil {
		return nil, err
	}
	for _, row := range []store.PersonRow{into, other} {
		if row.Disabled != nil {
			out.Disabled = append(out.Disabled, row.ID)
		}
	}
	out.Stays = len(out.Disabled) == 0 || j.Enable
	if !out.Stays && into.Disabled == nil {
		var mine []store.SessionRow
		if err := db.Where("person = ?", j.Into).Order("hash").Find(&mine).Error; err != nil {
			return nil, err
		}
		out.sessions = append(out.sessions, mine...)
	}
	out.Links, out.Members, out.Sessions = len(links), len(members), len(out.sessions)
	sum := sha256.New()
	fmt.Fprintf(sum, "%d %d %x %x %v %v %v\n", j.Into, j.Other, into.Sealed, other.Sealed, into.Disabled,
		other.Disabled, j.Enable)
	for _, l := range links {
		fmt.Fprintf(sum, "link %x\n", l.Key)
	}
	for _, m := range members {
		fmt.Fprintf(sum, "member %s %s %s\n", m.Kind, m.Name, m.Source)
	}
	for _, a := range admitted {
		fmt.Fprintf(sum, "admitted %d %s %v\n", a.Person, a.App, a.Until)
	}
	for _, s := range subjects {
		fmt.Fprintf(sum, "subject %s %d %x\n", s.App, s.Person, s.Hash)
		if s.Person != j.Other {
			continue
		}
		if slices.ContainsFunc(subjects, func(t store.SubjectRow) bool { return t.App == s.App && t.Person == j.Into }) {
			out.Lost = append(out.Lost, rm.appOf(s.App))
			continue
		}
		out.Subjects++
	}
	out.Digest = hex.EncodeToString(sum.Sum(nil))
	return out, nil
}

// join does what was weighed.
func (rm *Room) join(tx *gorm.DB, by change.By, j Joining, out *Joined) error {
	for _, s := range out.sessions {
		if _, err := rm.Leaving.End(tx, &crossing.Session{Ref: string(s.Hash), Lasting: s.Lasting}); err != nil {
			return err
		}
	}
	ended := []int64{j.Other}
	var disabled any
	if !out.Stays {
		ended, disabled = append(ended, j.Into), rm.Now().UTC()
	}
	err := errors.Join(
		tx.Model(&store.PersonRow{}).Where("id = ? AND (disabled IS NULL) <> ?", j.Into,
			out.Stays).Update("disabled", disabled).Error,
		tx.Model(&store.GrantRow{}).Where("person IN ? AND ended = ''", ended).Updates(map[string]any{
			"ended": string(grant.Withdrawn), "revision": gorm.Expr("revision + 1")}).Error,
		tx.Exec("UPDATE link_rows SET person = ? WHERE person = ?", j.Into, j.Other).Error,
		tx.Exec("UPDATE OR IGNORE member_rows SET person = ? WHERE person = ?", j.Into, j.Other).Error,
		tx.Exec(`DELETE FROM admission_rows WHERE person = ? AND EXISTS (SELECT 1 FROM admission_rows o WHERE o.person = ?
			AND o.app = admission_rows.app AND admission_rows.until IS NOT NULL AND (o.until IS NULL OR o.until > admission_rows.until))`,
			j.Into, j.Other).Error, // of two the longer one stays
		tx.Exec("UPDATE OR IGNORE admission_rows SET person = ? WHERE person = ?", j.Into, j.Other).Error,
		tx.Exec("UPDATE OR IGNORE use_rows SET person = ? WHERE person = ?", j.Into, j.Other).Error,
		tx.Exec("UPDATE OR IGNORE subject_rows SET person = ? WHERE person = ?", j.Into, j.Other).Error,
		tx.Exec("UPDATE OR IGNORE consent_rows SET person = ? WHERE person = ?", j.Into, j.Other).Error)
	if err != nil {
		return err
	}
	for _, theirs := range []any{&store.SubjectRow{}, &store.ConsentRow{}, &store.GrantRow{}, &store.TermRow{},
		&store.MatchRow{}, &store.MemberRow{}, &store.AdmissionRow{}, &store.UseRow{}} {
		if err := tx.Where("person = ?", j.Other).Delete(theirs).Error; err != nil {
			return err
		}
	}
	return errors.Join(tx.Where("id = ?", j.Other).Delete(&store.PersonRow{}).Error, rm.People.Keep(tx, j.Into, out.values),
		rm.People.SubjectTerms(tx, j.Into), rm.note(tx, by, j.Other, fmt.Sprintf("joined into %d", j.Into)),
		rm.note(tx, by, j.Into, out.says(j)))
}

// says is what stands in the history of the one that stays.
func (out *Joined) says(j Joining) string {
	said := fmt.Sprintf("joined with %d", j.Other)
	switch {
	case len(out.Disabled) == 0:
	case out.Stays:
		said += "; enabled, though one of them was disabled"
	default:
		said += "; disabled, because one of them was"
	}
	return said
}

func (rm *Room) appOf(id string) string {
	for _, a := range rm.Records.Snapshot().Applications() {
		if string(a.ID) == id {
			return string(a.Name)
		}
	}
	return id
}

// Part takes a link away from somebody, and makes an account of its own for it: whoever
// comes by it is another person from now on, disabled as the one is. All sessions of the one
// end.
func (rm *Room) Part(ctx context.Context, by change.By, id int64, key string) (Person, error) {
	hash, err := hex.DecodeString(key)
	if err != nil || len(hash) == 0 {
		return Person{}, change.Field("link", errors.New("give the key of a link; they stand beside the links of the person"))
	}
	var made int64
	err = rm.leave(ctx, id, func(tx *gorm.DB, from store.PersonRow) error {
		var links []store.LinkRow
		if err := tx.Where("person = ?", id).Find(&links).Error; err != nil {
			return err
		}
		at := slices.IndexFunc(links, func(l store.LinkRow) bool { return bytes.Equal(l.Key, hash) })
		switch {
		case at < 0:
			return change.Field("link", change.NotFound("link of the person", key, ""))
		case len(links) == 1:
			return change.Conflict("it is their only link: nobody would come as this person any more", "disable or remove the person instead")
		}
		row := store.PersonRow{Identifier: random.Text(16), Added: rm.Now().UTC(), Disabled: from.Disabled}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		made = row.ID
		return errors.Join(tx.Model(&store.LinkRow{}).Where("key = ?", hash).Update("person", made).Error,
			rm.People.SubjectTerms(tx, id), rm.People.SubjectTerms(tx, made),
			rm.note(tx, by, id, fmt.Sprintf("parted from %d", made)), rm.note(tx, by, made, fmt.Sprintf("parted off %d", id)))
	})
	if err == nil {
		err = rm.Store.Traces.Reassign(ctx, id, 0) // it is found out again, by their links
	}
	if err != nil {
		return Person{}, err
	}
	return rm.Get(ctx, made)
}
