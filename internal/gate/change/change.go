// Package change is what all changes have in common: who makes one and why, how
// it is refused, and what history is told of it.
package change

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/store"
)

// By is who makes a change, and why.
type By struct {
	Who, Why string
	// Together, if set, has changes share a number: that of the first one.
	Together *Together
	// Confirms is the digest of a consequence that was looked at, "" for none.
	Confirms string
	// Approves says that an admission is made that was approved.
	Approves bool
	// Meant says that what it does to people needs no further look: it was decided on before.
	Meant bool
	// Took, if set, is filled with what the change does to people.
	Took *Consequence
}

// Confirmed tells what a change does to people, and sees that what needs to be looked at was.
func (b By) Confirmed(took Consequence) error {
	if b.Took != nil {
		*b.Took = took
	}
	if f := took.Finding; f != nil && !b.Meant && b.Confirms != took.Digest {
		return Field("confirm", f.With(finding.Fact(finding.ToConfirm, took.Digest)))
	}
	return nil
}

// Together are changes that are made together, and can be taken back together.
type Together struct{ Number int64 } // 0 until the first one is noted

// FieldError says which field of what was given is wrong. It wraps the finding.
type FieldError struct {
	Field string
	Err   error
}

// Error gives the text of the wrapped error.
func (e *FieldError) Error() string { return e.Err.Error() }

// Unwrap gives the wrapped error.
func (e *FieldError) Unwrap() error { return e.Err }

// Field says which field an error is of.
func Field(name string, err error) error { return &FieldError{Field: name, Err: err} }

// NotFoundError says that no record has a name.
type NotFoundError struct {
	Kind, Name, Near string
	Other            string // kind of a record that does have the name
}

// Error names what was looked for, and a near name if there is one.
func (e *NotFoundError) Error() string {
	s := fmt.Sprintf("there is no %s %q", e.Kind, e.Name)
	switch {
	case e.Other != "":
		s += fmt.Sprintf("; there is %s %q", federation.Article(e.Other), e.Name)
	case e.Near != "":
		s += fmt.Sprintf("; did you mean %q?", e.Near)
	}
	return s
}

// AggregateObject is what acknowledged findings on an aggregate refer to.
func AggregateObject(name string) string { return KindAggregate + "/" + name }

// NotFound says that no record of a kind has a name; near is one that there is,
// or "".
func NotFound(kind, name, near string) error {
	return &NotFoundError{Kind: kind, Name: name, Near: near}
}

// ConflictError says that something stands in the way, and what to do.
type ConflictError struct{ What, Do string }

// Error gives both.
func (e *ConflictError) Error() string { return e.What + "; " + e.Do }

// Conflict says what stands in the way, and what to do.
func Conflict(what, do string) error { return &ConflictError{What: what, Do: do} }

// OfSetting turns an error of settings into one that names the field.
func OfSetting(err error) error {
	var se *federation.SettingError
	if errors.As(err, &se) {
		return Field(se.Field, se.Err)
	}
	return err
}

// Stale is the conflict of two people changing the same record.
func Stale(kind, name string, have, given int) error {
	return Conflict(fmt.Sprintf("the %s %q was changed meanwhile: it is at revision %d, the change is for %d", kind, name,
		have, given),
		"look at it again and repeat the change")
}

// Unchanged sees, inside a transaction, that what a change was made from is still
// so.
func Unchanged(tx *gorm.DB, row any, kind, name string, revision int) error {
	err := store.Unchanged(tx, row, name, revision)
	var other *store.RevisionError
	if errors.As(err, &other) {
		return Stale(kind, name, other.Have, other.Given)
	}
	return err
}

// Kinds of records.
const (
	KindProvider    = "provider"
	KindApplication = "application"
	KindAggregate   = "aggregate"
	KindGate        = "gate" // the gate itself, in checks
	// Units are kinds of their own: federation.KindGroup, KindOrganisation.
)

// Note is what history tells of a change.
type Note struct {
	At         time.Time
	By         By
	Kind, Name string
	What       string // was done, like "added"
	Revision   int
	Data       []byte // what is so afterwards, nothing secret
}

// Row is what is stored of a note.
func (n Note) Row() *store.HistoryRow {
	return &store.HistoryRow{At: n.At.UTC(), Kind: n.Kind, Name: n.Name, Revision: n.Revision, Who: n.By.Who,
		What: n.What,
		Why:  strings.TrimSpace(n.By.Why), Data: n.Data}
}

// Write puts a note into the history.
func (n Note) Write(tx *gorm.DB) error { return n.create(tx, n.Row()) }

// create writes the row, with the number that it shares with others.
func (n Note) create(tx *gorm.DB, row *store.HistoryRow) error {
	t := n.By.Together
	if t != nil {
		row.Batch = t.Number
	}
	if err := tx.Create(row).Error; err != nil || t == nil || t.Number != 0 {
		return err
	}
	t.Number = row.ID
	return tx.Model(row).Update("batch", row.ID).Error
}

// WriteOf puts a note on an object into the history: which it is, and what it says, are the
// object's.
func (n Note) WriteOf(tx *gorm.DB, o federation.Object) (err error) {
	n.Kind, n.Name = string(o.Ref().Kind), string(o.Ref().Name)
	r, is := o.(federation.Record)
	if !is {
		return n.Write(tx)
	}
	if n.Data == nil {
		if n.Data, err = federation.Marshal(r); err != nil {
			return err
		}
	}
	row := n.Row()
	row.Protocol, row.Object = r.Part().Protocol(), string(r.Basic().ID)
	return n.create(tx, row)
}

// KindOf is the kind of a record, as history has it.
func KindOf(r federation.Record) string { return string(r.Kind()) }

// NameOf is the short name of a record.
func NameOf(r federation.Record) string { return string(r.Basic().Name) }

// Digest is short for what a change would come to.
func Digest(parts ...any) string {
	h := sha256.New()
	for _, p := range parts {
		fmt.Fprintf(h, "%q\n", fmt.Sprint(p))
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// Seen holds a change to what was looked at before: given is the digest of that, now the digest of what the
// change would come to. moved says what is other than it was.
func Seen(given, now, moved string) error {
	switch given {
	case now:
		return nil
	case "":
		return Field("digest", errors.New("give the digest of the preview that was looked at"))
	}
	return Conflict(moved, "look at it again, and decide on that")
}
