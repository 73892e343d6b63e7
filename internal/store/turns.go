package store

import (
	"context"
	"database/sql"
	"time"

	"gorm.io/gorm"
)

// What every sign-in writes stands in this file, in SQL of its own: making it from the fields of a structure, at each
// row anew, takes longer than SQLite takes to write it.

// execs runs a statement in GORM's transaction as it stands. What GORM itself is given it puts together anew, octet by
// octet, each time.
func execs(tx *gorm.DB, statement string, args ...any) error {
	_, err := changes(tx, statement, args...)
	return err
}

// changes does that, and gives how many rows there were to change.
func changes(tx *gorm.DB, statement string, args ...any) (int64, error) {
	done, err := tx.Statement.ConnPool.ExecContext(tx.Statement.Context, statement, args...)
	if err != nil {
		return 0, err
	}
	return done.RowsAffected()
}

// asks gives the one row that a question is answered by.
func asks(tx *gorm.DB, question string, args ...any) *sql.Row {
	return tx.Statement.ConnPool.QueryRowContext(tx.Statement.Context, question, args...)
}

// PutCrossing keeps a crossing that has begun.
func PutCrossing(tx *gorm.DB, r CrossingRow) error {
	return execs(tx, "INSERT INTO crossing_rows (id, expires, ended, turns, sealed, session) VALUES (?, ?, false, ?, ?, '')",
		r.ID, r.Expires.UTC(), r.Turns, r.Sealed)
}

// KeepCrossing keeps what became of a crossing in a turn; false if another turn was there before, or it has ended.
func KeepCrossing(tx *gorm.DB, r CrossingRow, turns int) (bool, error) {
	n, err := changes(tx, "UPDATE crossing_rows SET turns = ?, sealed = ? WHERE id = ? AND ended = false AND turns BETWEEN ? AND ?",
		r.Turns, r.Sealed, r.ID, turns, turns)
	return n == 1, err
}

// EndCrossing ends a crossing, in the session of a lasting name if one is given; false if it has ended before.
func EndCrossing(tx *gorm.DB, id, lasting string) (bool, error) {
	n, err := changes(tx, "UPDATE crossing_rows SET ended = true, session = iif(? = '', session, ?) WHERE id = ? AND ended = false",
		lasting, lasting, id)
	return n == 1, err
}

// TieCrossing says which session a crossing came to.
func TieCrossing(tx *gorm.DB, id, lasting string) error {
	return execs(tx, "UPDATE crossing_rows SET session = ? WHERE id = ?", lasting, id)
}

// PutUsed notes that something was used which counts once; the error is that of IsTaken if it was before.
func PutUsed(tx *gorm.DB, key []byte, until time.Time) error {
	return execs(tx, "INSERT INTO used_rows (until, key) VALUES (?, ?)", until.UTC(), key)
}

// PutSession keeps a session that is new.
func PutSession(tx *gorm.DB, r *SessionRow) error {
	return execs(tx, `INSERT INTO session_rows (person, hash, provider, began, expires, sealed, lasting, used, revision, run)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, r.Person, r.Hash, r.Provider, r.Began, r.Expires, r.Sealed, r.Lasting, r.Used,
		r.Revision, r.Run)
}

// PutIssued remembers what an application was told within a session.
func PutIssued(tx *gorm.DB, r IssuedRow) error {
	return execs(tx, `INSERT INTO issued_rows (application, session, session_index, sealed, at, expires)
		VALUES (?, ?, ?, ?, ?, ?)`, r.Application, r.Session, r.SessionIndex, r.Sealed, r.At.UTC(), r.Expires.UTC())
}

// PutGrant keeps a grant that is new.
func PutGrant(tx *gorm.DB, r *GrantRow) error {
	return execs(tx, `INSERT INTO grant_rows (id, revision, app, person, session, offline, began, expires, ended, used, sealed)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, r.ID, r.Revision, r.App, r.Person, r.Session, r.Offline, r.Began, r.Expires,
		r.Ended, r.Used, r.Sealed)
}

// GrantOf reads a grant that has not expired: its revision, how it ended, what it is; the error is sql.ErrNoRows if
// there is none.
func (s *Store) GrantOf(ctx context.Context, id string, now time.Time) (row GrantRow, err error) {
	err = s.Read.Statement.ConnPool.QueryRowContext(ctx, "SELECT revision, ended, sealed FROM grant_rows WHERE id = ? AND expires > ?",
		id, now.UTC()).Scan(&row.Revision, &row.Ended, &row.Sealed)
	return row, err
}

// MoveGrant keeps the next value of a grant that is at a revision; false if it is not.
func MoveGrant(tx *gorm.DB, next *GrantRow, was int, now time.Time) (bool, error) {
	n, err := changes(tx, "UPDATE grant_rows SET revision = ?, ended = ?, sealed = ?, used = ? WHERE id = ? AND revision = ?",
		next.Revision, next.Ended, next.Sealed, now.UTC(), next.ID, was)
	return n == 1, err
}

// GrantAsSession has a grant last as long as the session of a lasting name, if that is longer.
func GrantAsSession(tx *gorm.DB, id, lasting string) error {
	return execs(tx, `UPDATE grant_rows SET expires = max(expires, coalesce((SELECT max(expires) FROM session_rows
		WHERE lasting = `+asText+`), expires)) WHERE id = `+asText, lasting, id)
}

// Welcome reports whether somebody is there and not disabled.
func Welcome(tx *gorm.DB, person int64) (ok bool, err error) {
	err = asks(tx, "SELECT EXISTS(SELECT 1 FROM person_rows WHERE id = ? AND disabled IS NULL)", person).Scan(&ok)
	return ok, err
}

// SessionStands reports whether the session of a lasting name is there and has not expired.
func SessionStands(tx *gorm.DB, lasting string, now time.Time) (ok bool, err error) {
	err = asks(tx, "SELECT EXISTS(SELECT 1 FROM session_rows WHERE lasting = ? AND expires > ?)", lasting,
		now.UTC()).Scan(&ok)
	return ok, err
}
