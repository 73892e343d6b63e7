package store

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Store is the open databases.
type Store struct {
	*Sealer
	Read   *gorm.DB // read-only pool
	write  *gorm.DB
	traces *gorm.DB
	lock   *os.File
	ops    chan op
	done   chan struct{}
	Traces *TraceLog
	dir    string

	closing sync.RWMutex
	closed  bool

	failing atomic.Pointer[error] // of the last write, if the disk did not take it
	trying  sync.Mutex
	tried   time.Time
	stuck   error // of the last try
}

// Flush has what was deleted leave the logs of writes too, in which it may stand until they
// are written over (https://sqlite.org/wal.html, wal_checkpoint). Where that cannot be right
// now, the next one does it: what was deleted is gone from the database all the same.
func (s *Store) Flush() {
	for _, db := range []*gorm.DB{s.write, s.traces} {
		_ = db.Exec("PRAGMA wal_checkpoint(TRUNCATE)").Error
	}
}

type op struct {
	do    func(tx *gorm.DB) error
	reply chan error
}

// Open opens, and where needed makes and migrates, the databases in a directory.
// A second process is kept out by a lock file. sealKey is the file of the
// sealing key.
func Open(dir, sealKey string, traces TraceLimits, log *slog.Logger) (*Store, error) {
	if err := private(dir, log); err != nil {
		return nil, err
	}
	lock, err := os.OpenFile(filepath.Join(dir, "innergate.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("opening the lock file: %w", err)
	}
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		lock.Close()
		return nil, fmt.Errorf("another gate serves from %s; stop it first, or use another data directory", dir)
	}
	s := &Store{lock: lock, dir: dir, ops: make(chan op, 256), done: make(chan struct{})}
	if err = s.open(dir, sealKey, log); err != nil {
		err = fmt.Errorf("opening the data directory %s: %w", dir, err)
	}
	if err != nil {
		return nil, errors.Join(err, s.closeFiles())
	}
	s.Traces = newTraceLog(s, traces, log)
	go s.writer()
	return s, nil
}

// OpenBeside opens the main database of a directory for a small change on the host,
// whether a gate serves from it or not. What is not there yet is not made, and
// traces are not opened.
func OpenBeside(dir, sealKey string) (*Store, error) {
	file := filepath.Join(dir, mainFile)
	if _, err := os.Stat(file); err != nil {
		return nil, fmt.Errorf("there is no database in %s: %w; start the gate once, it makes it", dir, err)
	}
	s := &Store{dir: dir, ops: make(chan op, 256), done: make(chan struct{})}
	var err error
	if s.Sealer, err = OpenSealer(sealKey, false); err == nil {
		s.write, err = connect(file, mainOptions, 1)
	}
	if err == nil {
		err = current(s.write, "main")
	}
	if err == nil {
		s.Read, err = connect(file, readOptions, 4)
	}
	if err == nil {
		err = s.checkSeal()
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("opening the data directory %s: %w", dir, err), s.closeFiles())
	}
	go s.writer()
	return s, nil
}

func (s *Store) open(dir, sealKey string, log *slog.Logger) (err error) {
	if err := lost(dir); err != nil {
		return err
	}
	file := filepath.Join(dir, mainFile)
	info, err := os.Stat(file)
	fresh := err != nil || info.Size() == 0
	if s.Sealer, err = OpenSealer(sealKey, fresh); err != nil {
		return err
	}
	if err := own(file); err != nil {
		return err
	}
	if s.write, err = connect(file, mainOptions, 1); err == nil {
		err = migrate(s.write, "main")
	}
	if damaged(err) {
		return fmt.Errorf("%s is damaged; restore it from a backup: %w", mainFile, err)
	}
	if err != nil {
		return err
	}
	if s.Read, err = connect(file, readOptions, 4); err != nil {
		return err
	}
	if err := s.openTraces(filepath.Join(dir, tracesFile), log); err != nil {
		return err
	}
	if err := s.checkSeal(); err != nil {
		return err
	}
	return s.sealNames()
}

// openTraces opens the file of traces. A damaged one is set aside: losing traces
// keeps nobody from starting.
func (s *Store) openTraces(file string, log *slog.Logger) (err error) {
	open := func() error {
		if err := own(file); err != nil {
			return err
		}
		if s.traces, err = connect(file, traceOptions, 2); err != nil {
			return err
		}
		if err := intact(s.traces, file); err != nil {
			return err
		}
		return migrate(s.traces, "traces")
	}
	if err = open(); !damaged(err) {
		return err
	}
	if s.traces != nil {
		if pool, err := s.traces.DB(); err == nil {
			_ = pool.Close()
		}
	}
	if err := setAside(file, log, err); err != nil {
		return err
	}
	return open()
}

// Packed is a document in the form in which it is kept.
type Packed struct {
	Hash   string // SHA-256 of its octets, by which it is found
	octets []byte // compressed
}

var packers = sync.Pool{New: func() any {
	z, _ := gzip.NewWriterLevel(nil, gzip.BestSpeed) // fails for other levels only
	return z
}}

// Pack makes a document ready to be kept. It is work, and nothing for the one
// writer to do.
func Pack(octets []byte) (Packed, error) {
	sum := sha256.Sum256(octets)
	var b bytes.Buffer
	z := packers.Get().(*gzip.Writer)
	defer packers.Put(z)
	z.Reset(&b)
	_, err := z.Write(octets)
	if err == nil {
		err = z.Close()
	}
	return Packed{Hash: hex.EncodeToString(sum[:]), octets: b.Bytes()}, err
}

// Put keeps it.
func (p Packed) Put(tx *gorm.DB) error {
	return tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&DocumentRow{Hash: p.Hash, Octets: p.octets}).Error
}

// Document gives a document that was kept; gorm.ErrRecordNotFound if there is
// none of this name.
func (s *Store) Document(ctx context.Context, hash string) ([]byte, error) {
	var row DocumentRow
	if err := s.Read.WithContext(ctx).Where("hash = ?", hash).Take(&row).Error; err != nil {
		return nil, err
	}
	z, err := gzip.NewReader(bytes.NewReader(row.Octets))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(z)
}

// unreferenced are documents that no record, no change that waits and no history
// refers to.
const unreferenced = `SELECT hash FROM document_rows WHERE hash NOT IN (
	SELECT d FROM (SELECT json_extract(CAST(data AS TEXT), '$.intake.document') AS d FROM provider_rows
	UNION SELECT json_extract(CAST(data AS TEXT), '$.intake.document') FROM application_rows
	UNION SELECT json_extract(CAST(data AS TEXT), '$.intake.document') FROM pending_rows
	UNION SELECT json_extract(CAST(data AS TEXT), '$.intake.document') FROM history_rows
		WHERE kind IN ('provider', 'application') AND data IS NOT NULL AND length(data) > 0) WHERE d IS NOT NULL)`

// SweepDocuments drops documents that nothing refers to. They are looked for
// beside the writer, and looked at again inside it.
func (s *Store) SweepDocuments(ctx context.Context) error {
	var found []string
	if err := s.Read.WithContext(ctx).Raw(unreferenced).Scan(&found).Error; err != nil || len(found) == 0 {
		return err
	}
	return s.Write(ctx, func(tx *gorm.DB) error {
		return tx.Exec("DELETE FROM document_rows WHERE hash IN (" + unreferenced + ")").Error
	})
}

// Dir is the data directory.
func (s *Store) Dir() string { return s.dir }

// checkSeal makes sure that the sealing key belongs to this database.
func (s *Store) checkSeal() error {
	var row SettingRow
	err := s.write.Where("key = ?", "seal-check").Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return s.write.Create(&SettingRow{Key: "seal-check",
			Value: hex.EncodeToString(s.Seal("seal-check", []byte("ok")))}).Error
	}
	if err != nil {
		return err
	}
	sealed, err := hex.DecodeString(row.Value)
	if err != nil {
		return err
	}
	_, err = s.Open("seal-check", sealed)
	return err
}

// Close commits what is waiting and closes the files. Later calls of Write fail;
// later calls of Close do nothing.
func (s *Store) Close() error {
	s.closing.Lock()
	if s.closed {
		s.closing.Unlock()
		return nil
	}
	s.closed = true
	close(s.ops)
	s.closing.Unlock()
	<-s.done
	if s.Traces != nil {
		s.Traces.close()
	}
	return s.closeFiles()
}

func (s *Store) closeFiles() error {
	var errs []error
	for _, db := range []*gorm.DB{s.Read, s.write, s.traces} {
		if db != nil {
			if pool, err := db.DB(); err == nil {
				errs = append(errs, pool.Close())
			}
		}
	}
	if s.lock != nil {
		errs = append(errs, s.lock.Close())
	}
	return errors.Join(errs...)
}

// Setting gives a stored value; the first time it is asked for, it stores the
// given one.
func (s *Store) Setting(ctx context.Context, key, first string) (string, error) {
	value := first
	err := s.Write(ctx, func(tx *gorm.DB) error {
		var row SettingRow
		err := tx.Where("key = ?", key).Take(&row).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return tx.Create(&SettingRow{Key: key, Value: first}).Error
		}
		value = row.Value
		return err
	})
	return value, err
}

// SetSetting stores a value in place of another.
func (s *Store) SetSetting(ctx context.Context, key, value string) error {
	return s.Write(ctx, func(tx *gorm.DB) error { return tx.Save(&SettingRow{Key: key, Value: value}).Error })
}

// RevisionError says that a row is at another revision than the one a change was
// made from.
type RevisionError struct{ Have, Given int }

// Error gives both.
func (e *RevisionError) Error() string {
	return fmt.Sprintf("it is at revision %d, the change is for %d", e.Have, e.Given)
}

// Unchanged sees, inside a transaction, that the row of a name is still at the
// revision that a change was made from; 0 if there was none.
func Unchanged(tx *gorm.DB, row any, name string, revision int) error {
	var now []int
	if err := tx.Model(row).Where("name = ?", name).Pluck("revision", &now).Error; err != nil {
		return err
	}
	if have := append(now, 0)[0]; have != revision {
		return &RevisionError{have, revision}
	}
	return nil
}

// Sweep removes what has expired.
func (s *Store) Sweep(ctx context.Context, now time.Time) error {
	return s.Write(ctx, func(tx *gorm.DB) error {
		for _, row := range []any{&ConsoleRow{}, &SessionRow{}, &IssuedRow{}, &CrossingRow{}, &HeldRow{},
			&GrantRow{}} {
			if err := tx.Where("expires < ?", now.UTC()).Delete(row).Error; err != nil {
				return err
			}
		}
		if err := tx.Where("at < ?", now.Add(-MailedKept).UTC()).Delete(&MailedRow{}).Error; err != nil {
			return err
		}
		// What is given for longer than a session may rest on what a provider gave.
		return errors.Join(tx.Where(`expires < ? AND NOT EXISTS (SELECT 1 FROM grant_rows g WHERE
			g.session = upstream_rows.session AND g.ended = '')`, now.UTC()).Delete(&UpstreamRow{}).Error,
			tx.Where("until < ?", now.UTC()).Delete(&UsedRow{}).Error,
			tx.Where("until < ?", now.UTC()).Delete(&AcknowledgedRow{}).Error)
	})
}

// Stats are figures for monitoring.
type Stats struct{ Sessions, Persons, Providers, Applications, TracesDropped int64 }

// Stats counts.
func (s *Store) Stats(ctx context.Context, now time.Time) (Stats, error) {
	var out Stats
	db := s.Read.WithContext(ctx)
	err := errors.Join(
		db.Model(&SessionRow{}).Where("expires > ? AND run = ''", now.UTC()).Count(&out.Sessions).Error,
		db.Model(&PersonRow{}).Where("id NOT IN (SELECT person FROM rehearsal_made_rows)").
			Count(&out.Persons).Error,
		db.Model(&ProviderRow{}).Count(&out.Providers).Error,
		db.Model(&ApplicationRow{}).Count(&out.Applications).Error)
	out.TracesDropped = s.Traces.dropped.Load()
	return out, err
}

// CountSubjects is how many people an application knows by a lasting name; 0 if that
// cannot be told.
func (s *Store) CountSubjects(ctx context.Context, app string) (n int64) {
	if s.Read.WithContext(ctx).Model(&SubjectRow{}).Where("app = ?", app).Count(&n).Error != nil {
		return 0
	}
	return n
}
