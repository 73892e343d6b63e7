package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	"github.com/mattn/go-sqlite3"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// What is SQLite's own stands in this file: how files are opened, the schema,
// and the one writer with its savepoints.

// Options of the connections. What is committed to the main file is on the disk;
// of the traces the last ones may be lost.
const (
	mainOptions  = "_journal_mode=WAL&_busy_timeout=5000&_foreign_keys=on&_synchronous=FULL&_txlock=immediate&_secure_delete=true&_cache_size=-32768" + cached
	readOptions  = "mode=ro&_busy_timeout=5000&_query_only=on" + cached
	traceOptions = "_journal_mode=WAL&_busy_timeout=5000&_synchronous=NORMAL&_txlock=immediate&_secure_delete=true" +
		cached
)

// cached keeps statements prepared, of each connection: preparing one takes longer
// than most of what is asked.
const cached = "&_stmt_cache_size=100"

// driverName is that of the driver whose connections undo what they must from memory: SQLite would make a file for it,
// and delete it again, in many transactions.
const driverName = "sqlite3 of the gate"

func init() {
	sql.Register(driverName, &sqlite3.SQLiteDriver{ConnectHook: func(c *sqlite3.SQLiteConn) error {
		_, err := c.Exec("PRAGMA temp_store = MEMORY", nil)
		return err
	}})
}

// A value that is compared, and that the index does not take, might be 0 or 1, by which SQLite would choose another
// way; so it prepares the statement anew with each value (sqlite3VdbeReprepareOnBind), which takes longer than all the
// rest. What is known to be text or octets is neither.
const (
	asText   = "CAST(? AS TEXT)"
	asOctets = "CAST(? AS BLOB)"
)

func connect(file, options string, conns int) (*gorm.DB, error) {
	dsn := (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: file}).EscapedPath(), RawQuery: options}).String()
	db, err := gorm.Open(sqlite.New(sqlite.Config{DSN: dsn, DriverName: driverName}),
		&gorm.Config{TranslateError: true, SkipDefaultTransaction: true, Logger: logger.Discard,
			NowFunc: func() time.Time { return time.Now().UTC() }})
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w", filepath.Base(file), err)
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(conns)
	pool.SetMaxIdleConns(conns)
	return db, nil
}

//go:embed schema/*.sql
var schemas embed.FS

// migrate brings a file up to the schema of this build. Each step is a file that
// never changes once it was released; all of them happen, or none.
func migrate(db *gorm.DB, of string) error {
	files, err := schemas.ReadDir("schema")
	if err != nil {
		return err
	}
	var steps []*gormigrate.Migration
	for _, f := range files {
		id, ok := strings.CutPrefix(f.Name(), of+"-")
		if !ok {
			continue
		}
		statements, err := schemas.ReadFile("schema/" + f.Name())
		if err != nil {
			return err
		}
		steps = append(steps, &gormigrate.Migration{ID: strings.TrimSuffix(id, ".sql"),
			Migrate: func(tx *gorm.DB) error { return tx.Exec(string(statements)).Error }})
	}
	before := -1 // steps that were taken before; none of a file that is made now
	if db.Migrator().HasTable("migrations") {
		var ids []string
		if err := db.Table("migrations").Pluck("id", &ids).Error; err != nil {
			return err
		}
		before = len(slices.DeleteFunc(ids, func(id string) bool { return !strings.HasPrefix(id, "0") }))
	}
	options := *gormigrate.DefaultOptions
	options.UseTransaction, options.ValidateUnknownMigrations = true, true
	err = gormigrate.New(db, &options, steps).Migrate()
	if errors.Is(err, gormigrate.ErrUnknownPastMigration) {
		return fmt.Errorf("the %s database was written by a later build; start that one, or use another data directory", of)
	}
	if err != nil {
		return fmt.Errorf("bringing the %s database up to date: %w", of, err)
	}
	if before <= 0 || before >= overwriting[of] {
		return nil
	}
	// What was deleted by earlier builds stands in free pages still. A disk that has no room
	// to write the file anew keeps them.
	if err := db.Exec("VACUUM").Error; err != nil && !IsUnwritable(err) {
		return fmt.Errorf("writing the %s database anew: %w", of, err)
	}
	return nil
}

// overwriting is with which step of its schema what is deleted of a file began to be overwritten.
var overwriting = map[string]int{"main": 14, "traces": 4}

// current sees that a file has exactly the schema of this build.
func current(db *gorm.DB, of string) error {
	files, err := schemas.ReadDir("schema")
	if err != nil {
		return err
	}
	want := 0
	for _, f := range files {
		if strings.HasPrefix(f.Name(), of+"-") {
			want++
		}
	}
	var ids []string
	if err := db.Table("migrations").Pluck("id", &ids).Error; err != nil {
		return err
	}
	have := len(slices.DeleteFunc(ids, func(id string) bool { return !strings.HasPrefix(id, "0") }))
	if have != want {
		return fmt.Errorf("the %s database was written by another build (%d steps of its schema, this one knows %d); "+
			"use the program that serves from it", of, have, want)
	}
	return nil
}

// checked is the size up to which a file is read through when it is opened, in
// octets.
const checked = 256 << 20

// intact sees whether a file is whole, unless that would take long.
func intact(db *gorm.DB, file string) error {
	if info, err := os.Stat(file); err != nil || info.Size() > checked {
		return err
	}
	var said []string
	if err := db.Raw("PRAGMA quick_check(1)").Scan(&said).Error; err != nil {
		return err
	}
	if len(said) != 1 || said[0] != "ok" {
		return fmt.Errorf("%w: %s", errMalformed, strings.Join(said, "; "))
	}
	return nil
}

// errMalformed is found by reading a file through.
var errMalformed = errors.New("the file is malformed")

// damaged reports whether an error says that a file is no whole database any more.
func damaged(err error) bool {
	var e sqlite3.Error
	return errors.Is(err, errMalformed) || errors.As(err, &e) && (e.Code == sqlite3.ErrCorrupt ||
		e.Code == sqlite3.ErrNotADB)
}

// compact gives back to the disk what a file no longer uses, and leaves nothing
// readable there.
func compact(db *gorm.DB) error { return db.Exec("VACUUM").Error }

// IsTaken reports whether an error says that a unique value exists already.
func IsTaken(err error) bool {
	return errors.Is(err, gorm.ErrDuplicatedKey) || err != nil && strings.Contains(err.Error(),
		"UNIQUE constraint failed")
}

// Writing is a transaction in which rows are written, for whoever only hands it on to those who keep them.
type Writing = gorm.DB

// Write runs do in a transaction of its own and returns when it is on disk.
// Concurrent calls are committed together; one that fails is rolled back to its
// savepoint and does not disturb the others. do may not keep tx, and may be run
// again if the disk fails somebody else.
func (s *Store) Write(ctx context.Context, do func(tx *gorm.DB) error) error {
	o := op{do: do, reply: make(chan error, 1)}
	s.closing.RLock()
	if s.closed {
		s.closing.RUnlock()
		return errClosed
	}
	select {
	case s.ops <- o:
		s.closing.RUnlock()
	case <-ctx.Done():
		s.closing.RUnlock()
		return ctx.Err()
	}
	return <-o.reply
}

var errClosed = errors.New("the store is closed")

// largest number of transactions that are committed together.
const group = 64

// writer is the one writer.
func (s *Store) writer() {
	defer close(s.done)
	for first := range s.ops {
		batch := []op{first}
	gather:
		for len(batch) < group {
			select {
			case o, ok := <-s.ops:
				if !ok {
					break gather
				}
				batch = append(batch, o)
			default:
				break gather
			}
		}
		s.commit(batch)
	}
}

// commit commits transactions together, and tells each how it ended. On a full
// disk, an error of the disk or lack of memory SQLite undoes the whole
// transaction, savepoints and all, or does not commit it; then nobody in the group
// has been told anything yet, whoever it happened to fails, and the others are run
// again, each alone.
func (s *Store) commit(batch []op) {
	if s.atOnce(batch) {
		return
	}
	results := make([]error, len(batch))
	reached := len(batch)
	err := s.write.Transaction(func(tx *gorm.DB) error {
		for i, o := range batch {
			var whole bool
			if results[i], whole = within(tx, o.do); !whole {
				reached = i
				return errors.Join(errUndone, results[i])
			}
		}
		return nil
	})
	s.note(errors.Join(errors.Join(results...), err))
	switch {
	case err == nil:
		for i, o := range batch {
			o.reply <- results[i]
		}
		return
	case len(batch) == 1:
		batch[0].reply <- errors.Join(results[0], err)
		return
	}
	for i, o := range batch {
		if i == reached && results[i] != nil {
			o.reply <- errors.Join(results[i], err)
			continue
		}
		s.commit([]op{o})
	}
}

// atOnce commits transactions as one, without anything that would undo a single one of them: most fail at nothing.
// False if one does; then none has happened.
func (s *Store) atOnce(batch []op) bool {
	err := s.write.Transaction(func(tx *gorm.DB) error {
		for _, o := range batch {
			if err := run(tx, o.do); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return false
	}
	s.note(nil)
	for _, o := range batch {
		o.reply <- nil
	}
	return true
}

// IsUnwritable reports whether an error is that the disk takes no writes: it is full, can
// only be read, or fails.
func IsUnwritable(err error) bool {
	var e sqlite3.Error
	return errors.As(err, &e) && slices.Contains([]sqlite3.ErrNo{sqlite3.ErrFull, sqlite3.ErrIoErr, sqlite3.ErrNomem,
		sqlite3.ErrReadonly, sqlite3.ErrCantOpen, sqlite3.ErrCorrupt, sqlite3.ErrNotADB}, e.Code)
}

// note remembers whether the disk takes writes.
func (s *Store) note(err error) {
	var e sqlite3.Error
	held := errors.As(err, &e) && (e.Code == sqlite3.ErrBusy || e.Code == sqlite3.ErrLocked)
	if held || IsUnwritable(err) || errors.Is(err, errUndone) {
		s.failing.Store(&err)
	} else {
		s.failing.Store(nil)
	}
}

// Failing reports whether the last write did not reach the disk.
func (s *Store) Failing() bool { return s.failing.Load() != nil }

// How often a question whether writes go through is tried, and how long one may take.
const (
	tryEvery = time.Second
	tryMost  = 2 * time.Second
)

var errHeld = errors.New("the database does not come to what is to be written; another process may hold its lock")

// Writable gives nil while writes go through: it takes the lock that every sign-in needs,
// writing nothing, or, after one that did not reach the disk, writes itself.
func (s *Store) Writable(ctx context.Context) error {
	s.trying.Lock()
	defer s.trying.Unlock()
	if now := time.Now(); now.Sub(s.tried) > tryEvery {
		s.tried = now
		s.stuck = s.try(ctx, now)
	}
	if err := s.failing.Load(); err != nil {
		return *err
	}
	return s.stuck
}

// try goes through the one writer, and waits for it for a while.
func (s *Store) try(ctx context.Context, now time.Time) error {
	whole := s.failing.Load() != nil
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = s.Write(ctx, func(tx *gorm.DB) error { // noted, however it ends
			if !whole {
				return nil
			}
			return tx.Save(&SettingRow{Key: "written", Value: strings.Repeat(now.UTC().Format(time.RFC3339), 500)}).Error
		})
	}()
	select {
	case <-done:
		return nil
	case <-time.After(tryMost):
		return errHeld
	}
}

var errUndone = errors.New("the database has undone the transaction")

// within runs do under a savepoint, and undoes it if it fails. whole is false if
// the transaction around it is gone with it.
func within(tx *gorm.DB, do func(tx *gorm.DB) error) (err error, whole bool) {
	if err := tx.Exec("SAVEPOINT one").Error; err != nil {
		return err, false
	}
	if err = run(tx, do); err != nil {
		if undo := tx.Exec("ROLLBACK TO one").Error; undo != nil {
			return err, false
		}
	}
	return err, tx.Exec("RELEASE one").Error == nil
}

// run calls do; a panic in it is an error, so that the one writer goes on.
func run(tx *gorm.DB, do func(tx *gorm.DB) error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("panic in a transaction: %v\n%s", p, debug.Stack())
		}
	}()
	return do(tx.Session(&gorm.Session{NewDB: true}))
}
